package contract

import "time"

// BounceSource is where what comes back after mailings is read.
type BounceSource struct {
	ID         int64      `json:"id" doc:"Names the source."`
	Kind       string     `json:"kind" enum:"mailbox,webhook" doc:"mailbox: read over IMAP; webhook: a program calls."`
	Name       string     `json:"name" doc:"Its name."`
	Host       string     `json:"host,omitempty" doc:"The IMAP server of a mailbox."`
	Port       int        `json:"port,omitempty" doc:"Its port."`
	Security   string     `json:"security,omitempty" enum:"tls,starttls,none" doc:"How the connection is encrypted."`
	Username   string     `json:"username,omitempty" doc:"The name to sign in with."`
	Folder     string     `json:"folder,omitempty" doc:"The folder that is read."`
	Then       string     `json:"then,omitempty" enum:"flag,move,delete" doc:"What becomes of a message that was read."`
	ThenFolder string     `json:"thenFolder,omitempty" doc:"Where messages are moved to."`
	Path       string     `json:"path,omitempty" doc:"Where a program calls (POST), below where people reach the service."`
	Secret     string     `json:"secret,omitempty" doc:"The secret that calls are signed by. Only when it is made."`
	Messages   int64      `json:"messages" doc:"Messages that came by it."`
	LookedAt   *time.Time `json:"lookedAt,omitempty" doc:"When it was last looked at, or called."`
	Failing    bool       `json:"failing" doc:"Whether the last look failed."`
	Says       string     `json:"says" doc:"What the last look found."`
	By         string     `json:"by" doc:"Who made it."`
	CreatedAt  time.Time  `json:"createdAt" doc:"When."`
}

// BounceMailbox is how a mailbox is read.
type BounceMailbox struct {
	Host       string  `json:"host" maxLength:"253" doc:"The IMAP server."`
	Port       int     `json:"port" minimum:"1" maximum:"65535" doc:"Its port: usually 993 with TLS, 143 with STARTTLS."`
	Security   string  `json:"security" enum:"tls,starttls,none" doc:"How the connection is encrypted; none is only for a server on the same machine alone."`
	Username   string  `json:"username" maxLength:"256" doc:"The name to sign in with."`
	Password   *string `json:"password,omitempty" maxLength:"1024" doc:"The password; left out, the one that is there stays, while host and port do."`
	Folder     string  `json:"folder,omitempty" maxLength:"200" doc:"The folder that is read; INBOX unless given."`
	Then       string  `json:"then,omitempty" enum:"flag,move,delete" doc:"What becomes of a message that was read: it is marked as seen (unless given), moved or deleted."`
	ThenFolder string  `json:"thenFolder,omitempty" maxLength:"200" doc:"Where messages are moved to; made where it is not there."`
}

// NewBounceSource makes a source: a mailbox, or a webhook.
type NewBounceSource struct {
	Name    string         `json:"name" minLength:"1" maxLength:"100" doc:"Its name."`
	Mailbox *BounceMailbox `json:"mailbox,omitempty" doc:"The mailbox that is read; left out, a program calls."`
}

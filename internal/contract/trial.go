package contract

import "time"

// TrialSender is by whom and how a workspace sends trial letters.
type TrialSender struct {
	Allowed     bool       `json:"allowed" doc:"Whether the workspace's owner has turned trial letters on."`
	AllowedBy   string     `json:"allowedBy,omitempty" doc:"Who has."`
	Host        string     `json:"host,omitempty" doc:"The submission server; left out where none is set."`
	Port        int        `json:"port,omitempty" doc:"Its port."`
	Security    string     `json:"security,omitempty" enum:"tls,starttls,none" doc:"How the connection is encrypted."`
	Username    string     `json:"username,omitempty" doc:"The name to sign in with."`
	Password    bool       `json:"password" doc:"Whether there is a password."`
	Sender      string     `json:"sender,omitempty" doc:"Whom the letters come from: a name with an address."`
	Returns     string     `json:"returns,omitempty" doc:"The mailbox that bounces come to; left out where they come to return addresses of Varnet."`
	Servers     []string   `json:"servers" doc:"The IP addresses that the letters leave from."`
	Selector    string     `json:"selector,omitempty" doc:"The selector of the DKIM key; left out where Varnet signs nothing."`
	Record      string     `json:"record,omitempty" doc:"What is to be published as a TXT record of the selector."`
	RecordName  string     `json:"recordName,omitempty" doc:"The name of that record."`
	Daily       int        `json:"daily" doc:"How many letters leave within 24 hours."`
	Checks      []Check    `json:"checks" doc:"What the last test found."`
	TestedAt    *time.Time `json:"testedAt,omitempty" doc:"When it was tested as it is."`
	Usable      bool       `json:"usable" doc:"Whether letters can be sent."`
	Says        string     `json:"says" doc:"The same in a sentence, and what to do next."`
	SentToday   int        `json:"sentToday" doc:"Trial letters that left within the last 24 hours."`
	ReturnsHere bool       `json:"returnsHere" doc:"Whether the installation takes bounces at return addresses of its own."`
}

// NewTrialSender changes the sender of trial letters.
type NewTrialSender struct {
	Host     string   `json:"host" minLength:"1" maxLength:"253" doc:"The submission server (RFC 6409)."`
	Port     int      `json:"port" minimum:"1" maximum:"65535" doc:"Its port, such as 465 with TLS and 587 with STARTTLS."`
	Security string   `json:"security" enum:"tls,starttls,none" doc:"How the connection is encrypted; none is only for a server on the same machine alone."`
	Username string   `json:"username,omitempty" maxLength:"256" doc:"The name to sign in with; left out for none."`
	Password *string  `json:"password,omitempty" maxLength:"1024" doc:"The password; left out, the one that is there stays, while host and port do, and an empty one removes it."`
	Sender   string   `json:"sender" minLength:"3" maxLength:"320" doc:"Whom the letters come from: a name with an address."`
	Returns  string   `json:"returns,omitempty" maxLength:"254" doc:"The mailbox that bounces come to and that takes addresses with a tag behind a plus sign; left out where they come to return addresses of Varnet."`
	Servers  []string `json:"servers" minItems:"1" maxItems:"20" doc:"The IP addresses that the letters leave from."`
	Selector string   `json:"selector,omitempty" maxLength:"63" doc:"The selector of the DKIM key; left out, Varnet signs nothing."`
	Key      *string  `json:"key,omitempty" maxLength:"8192" doc:"A private RSA key (PEM) to sign by; left out, the one that is there stays, or a new one is made."`
	Daily    int      `json:"daily,omitempty" minimum:"1" maximum:"5000" doc:"How many letters leave within 24 hours; 500 unless given."`
}

// TrialsAllowed turns trial letters on or off.
type TrialsAllowed struct {
	Allowed bool `json:"allowed" doc:"Whether the workspace may send trial letters."`
}

// TrialText is what a trial letter says.
type TrialText struct {
	Subject string `json:"subject" maxLength:"500" doc:"What it is about."`
	Body    string `json:"body" maxLength:"20000" doc:"The letter, as plain text."`
	Who     string `json:"who" maxLength:"1000" doc:"Who writes, and where they can be reached."`
	Why     string `json:"why" maxLength:"1000" doc:"How they come by the address, and why they write to it."`
}

// TrialOrder orders trial letters to the catch-all addresses of a run.
type TrialOrder struct {
	TrialText
	Name      string `json:"name" minLength:"1" maxLength:"200" doc:"The name of the mailing."`
	Reason    string `json:"reason" maxLength:"1000" doc:"The legal basis on which you write to these people. It is kept in the audit trail."`
	Confirmed bool   `json:"confirmed" doc:"That you may write to these people, and that the letter is honest. Without it nothing is sent."`
}

// TrialLetter is a trial letter as its readers get it.
type TrialLetter struct {
	Text string `json:"text" doc:"The whole text."`
}

// TrialForecast is what settling the catch-all addresses of a run by trial letters will take.
type TrialForecast struct {
	Letters   int             `json:"letters" doc:"How many letters that are: an address gets one, ever."`
	LeftOut   []TrialsLeftOut `json:"leftOut" doc:"Addresses that get none."`
	Operators int             `json:"operators" doc:"To how many mail operators they go."`
	Daily     int             `json:"daily" doc:"How many leave within 24 hours."`
	Hours     float64         `json:"hours" doc:"Until the last one has left, in hours."`
	Until     time.Time       `json:"until" doc:"Until when bounces are waited for, if they are ordered now."`
	Says      string          `json:"says" doc:"The same in sentences."`
	Problem   string          `json:"problem,omitempty" doc:"Why nothing can be sent as things are, and what to do."`
}

// TrialsLeftOut is how many addresses get no trial letter for one reason.
type TrialsLeftOut struct {
	Addresses int    `json:"addresses" doc:"How many."`
	Why       string `json:"why" doc:"Why they get none."`
}

// TrialProgress is where the letters of a mailing stand.
type TrialProgress struct {
	Waiting      int64  `json:"waiting" doc:"Letters that have not left yet."`
	Sent         int64  `json:"sent" doc:"Letters that the submission server took."`
	Refused      int64  `json:"refused" doc:"Letters that it refused."`
	Unsubscribed int64  `json:"unsubscribed" doc:"People who unsubscribed."`
	Subject      string `json:"subject" doc:"What the letters are about."`
	Body         string `json:"body" doc:"The letter."`
	Reason       string `json:"reason" doc:"The legal basis on which they were sent."`
}

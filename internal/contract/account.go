package contract

import "time"

// WaysIn are how one may sign in and up here.
type WaysIn struct {
	SignUp   string `json:"signUp" enum:"open,invitation,closed" doc:"Who may sign up: anybody, who was invited, or nobody."`
	Letters  bool   `json:"letters" doc:"Whether letters are sent, and so codes."`
	Provider string `json:"provider,omitempty" doc:"The name of the installation's sign-in provider; left out where there is none."`
	Demo     string `json:"demo,omitempty" doc:"The person of the demo, whom anybody on this machine may sign in as; left out where it is none."`
}

// Step is how far somebody is on the way in.
type Step struct {
	Next   string `json:"next" enum:"done,code,second-factor,new-password" doc:"What comes next; done: signed in."`
	Ticket string `json:"ticket,omitempty" doc:"Goes with the next step; left out when done."`
	Says   string `json:"says" doc:"The same in words."`
}

// AddressAndPassword signs somebody in.
type AddressAndPassword struct {
	Address  string `json:"address" minLength:"1" maxLength:"320" doc:"The address of the account."`
	Password string `json:"password" minLength:"1" maxLength:"1000" doc:"Its password."`
}

// AccountAddress is the address of an account, or of one to be.
type AccountAddress struct {
	Address string `json:"address" minLength:"1" maxLength:"320" doc:"The address."`
}

// TicketAndCode goes on with a code.
type TicketAndCode struct {
	Ticket string `json:"ticket" minLength:"1" maxLength:"100" doc:"The ticket of the step before."`
	Code   string `json:"code" minLength:"1" maxLength:"40" doc:"The code, with or without spaces."`
}

// TicketAndPassword goes on with a new password.
type TicketAndPassword struct {
	Ticket   string `json:"ticket" minLength:"1" maxLength:"100" doc:"The ticket of the step before."`
	Password string `json:"password" minLength:"1" maxLength:"1000" doc:"The new password, of at least 10 characters."`
}

// Newcomer is somebody who signs up.
type Newcomer struct {
	Name     string `json:"name" minLength:"1" maxLength:"100" doc:"Their name."`
	Address  string `json:"address" minLength:"1" maxLength:"320" doc:"Their address."`
	Password string `json:"password,omitempty" maxLength:"1000" doc:"A password of at least 10 characters; left out, they sign in by code."`
}

// FirstOwner is who becomes an owner of the installation by the one-time link.
type FirstOwner struct {
	Link string `json:"link" minLength:"1" maxLength:"100" doc:"What stands in the link after the #."`
	Newcomer
}

// InvitationLink is what stands in the link of an invitation after the #.
type InvitationLink struct {
	Invitation string `json:"invitation" minLength:"1" maxLength:"100" doc:"What stands in the link after the #."`
}

// Joining is how somebody without an account accepts an invitation.
type Joining struct {
	InvitationLink
	Name     string `json:"name" minLength:"1" maxLength:"100" doc:"Their name."`
	Password string `json:"password,omitempty" maxLength:"1000" doc:"A password of at least 10 characters; left out, they sign in by code."`
}

// Invitation is one to join a workspace.
type Invitation struct {
	ID        int64     `json:"id" doc:"Names it."`
	Workspace string    `json:"workspace" doc:"The workspace."`
	Address   string    `json:"address" doc:"Who is invited."`
	Role      string    `json:"role" enum:"owner,manager,member,reader" doc:"What they will be."`
	Says      string    `json:"says" doc:"What they may do then."`
	InvitedBy string    `json:"invitedBy,omitempty" doc:"Who invited them; left out when they are gone."`
	ExpiresAt time.Time `json:"expiresAt" doc:"When it ends."`
	Link      string    `json:"link,omitempty" doc:"Its link, of one that was just made; left out of all others."`
}

// NewInvitation invites somebody.
type NewInvitation struct {
	Address string `json:"address" minLength:"1" maxLength:"320" doc:"Who is invited."`
	Role    string `json:"role" enum:"owner,manager,member,reader" doc:"What they will be."`
}

// PasskeyQuestion is what a browser is asked, and the ticket that goes with its answer.
type PasskeyQuestion struct {
	Ticket  string `json:"ticket" doc:"Goes with the answer."`
	Options any    `json:"options" doc:"Options of the Web Authentication API, in their JSON form."`
}

// PasskeyAnswer is what a browser answers.
type PasskeyAnswer struct {
	Ticket     string         `json:"ticket" minLength:"1" maxLength:"100" doc:"The ticket of the question."`
	Credential map[string]any `json:"credential" doc:"The credential of the Web Authentication API, in its JSON form."`
}

// NewPasskey is a passkey that a browser has made.
type NewPasskey struct {
	PasskeyAnswer
	Name string `json:"name" minLength:"1" maxLength:"100" doc:"What to call it."`
}

// Confirmation proves that it is the person who has the session, in one of four ways.
type Confirmation struct {
	Password   string         `json:"password,omitempty" maxLength:"1000" doc:"The password."`
	Code       string         `json:"code,omitempty" maxLength:"40" doc:"A code of the second factor; with a ticket, the code of the letter."`
	Ticket     string         `json:"ticket,omitempty" maxLength:"100" doc:"The ticket of the letter, or of the passkey's question."`
	Credential map[string]any `json:"credential,omitempty" doc:"The passkey's answer."`
}

// Session is who calls: a person who is signed in, or a program with its key.
type Session struct {
	Workspace   string       `json:"workspace" doc:"The workspace at work in; empty where a person is in none."`
	WorkspaceID int64        `json:"workspaceId,omitempty" doc:"Its number."`
	Scopes      []string     `json:"scopes" doc:"What the caller may do."`
	Keeper      bool         `json:"keeper" doc:"Whether the caller is an owner of the installation."`
	Person      *Who         `json:"person,omitempty" doc:"The person; left out for a program."`
	Role        string       `json:"role,omitempty" doc:"What the person is in the workspace."`
	DeleteAt    *time.Time   `json:"deleteAt,omitempty" doc:"When the workspace is deleted, because an owner ordered that."`
	Guide       *Guide       `json:"guide,omitempty" doc:"How far the workspace is with its first steps; left out once they are over."`
	Demanded    bool         `json:"demanded" doc:"Whether the workspace demands a second factor that the person does not have yet."`
	Workspaces  []Membership `json:"workspaces" doc:"The workspaces of the person."`
}

// Guide is how far a workspace is with its first steps: a list, a run, an export.
type Guide struct {
	ListID int64 `json:"listId,omitempty" doc:"The newest list; left out where there is none yet."`
	RunID  int64 `json:"runId,omitempty" doc:"The newest run that has ended; left out where there is none yet."`
}

// Who is a person.
type Who struct {
	ID      int64  `json:"id" doc:"Names the person."`
	Name    string `json:"name" doc:"Their name."`
	Address string `json:"address" doc:"Their address."`
}

// Membership is a workspace that somebody is in.
type Membership struct {
	ID   int64  `json:"id" doc:"Names the workspace."`
	Name string `json:"name" doc:"Its name."`
	Role string `json:"role" doc:"What they are in it."`
}

// WorkspaceChoice is the workspace that a session works in from now on.
type WorkspaceChoice struct {
	WorkspaceID int64 `json:"workspaceId" minimum:"1" doc:"The workspace."`
}

// WorkspaceName names a workspace.
type WorkspaceName struct {
	Name string `json:"name" minLength:"1" maxLength:"100" doc:"Its name."`
}

// Person is an account as its owner sees it.
type Person struct {
	Who
	Password      bool            `json:"password" doc:"Whether there is a password."`
	SecondFactor  bool            `json:"secondFactor" doc:"Whether an authenticator app is set up."`
	RecoveryCodes int             `json:"recoveryCodes" doc:"How many recovery codes are left."`
	Passkeys      []Passkey       `json:"passkeys" doc:"The passkeys."`
	Sessions      []PersonSession `json:"sessions" doc:"Where the person is signed in, the latest used first."`
}

// Passkey is a passkey of a person.
type Passkey struct {
	ID         int64      `json:"id" doc:"Names it."`
	Name       string     `json:"name" doc:"What it is called."`
	CreatedAt  time.Time  `json:"createdAt" doc:"When it was added."`
	LastUsedAt *time.Time `json:"lastUsedAt,omitempty" doc:"When it was used last."`
}

// PersonSession is where a person is signed in.
type PersonSession struct {
	ID          int64     `json:"id" doc:"Names it."`
	Device      string    `json:"device" doc:"The browser and system, or the machine of the command line."`
	Place       string    `json:"place" doc:"The network address from which it was used last."`
	CommandLine bool      `json:"commandLine" doc:"Whether it is of the command line."`
	CreatedAt   time.Time `json:"createdAt" doc:"Since when."`
	SeenAt      time.Time `json:"seenAt" doc:"When it was used last, to the minute."`
	Yours       bool      `json:"yours" doc:"Whether this request came with it."`
}

// PersonName is a person's name.
type PersonName struct {
	Name string `json:"name" minLength:"1" maxLength:"100" doc:"The name."`
}

// Password is a new password.
type Password struct {
	Password string `json:"password" minLength:"1" maxLength:"1000" doc:"The new password, of at least 10 characters."`
}

// Enrolment is a second factor that is being set up.
type Enrolment struct {
	Ticket string `json:"ticket" doc:"Goes with the first code."`
	Secret string `json:"secret" doc:"The secret, for apps that take it typed."`
	URI    string `json:"uri" doc:"The same with the account, as the QR code has it."`
	QR     string `json:"qr" doc:"The QR code, as SVG."`
}

// RecoveryCodes are codes that each sign in once without the second factor.
type RecoveryCodes struct {
	Codes []string `json:"codes" doc:"The codes, shown only now."`
}

// Team is a workspace with its people.
type Team struct {
	ID            int64        `json:"id" doc:"Names the workspace."`
	Name          string       `json:"name" doc:"Its name."`
	SecondFactor  bool         `json:"secondFactor" doc:"Whether its people must have a second factor."`
	ReadersExport bool         `json:"readersExport" doc:"Whether readers may export."`
	Members       []Member     `json:"members" doc:"Its people, by name."`
	Invitations   []Invitation `json:"invitations" doc:"Open invitations, the newest first."`
	DeleteAt      *time.Time   `json:"deleteAt,omitempty" doc:"When the workspace is deleted with everything in it, because an owner ordered that; an owner can stop it until then."`
	DeleteBy      string       `json:"deleteBy,omitempty" doc:"Who ordered that."`
}

// Member is a person in a workspace.
type Member struct {
	Who
	Role         string     `json:"role" enum:"owner,manager,member,reader" doc:"What they are."`
	SecondFactor bool       `json:"secondFactor" doc:"Whether they have a second factor or a passkey."`
	JoinedAt     time.Time  `json:"joinedAt" doc:"Since when."`
	SeenAt       *time.Time `json:"seenAt,omitempty" doc:"When they last used Varnet; left out of who is not signed in."`
	You          bool       `json:"you" doc:"Whether it is who asks."`
}

// TeamChange changes a workspace.
type TeamChange struct {
	Name          string `json:"name" minLength:"1" maxLength:"100" doc:"Its name."`
	SecondFactor  bool   `json:"secondFactor" doc:"Whether its people must have a second factor."`
	ReadersExport bool   `json:"readersExport" doc:"Whether readers may export."`
}

// RoleChange is what a member is from now on.
type RoleChange struct {
	Role string `json:"role" enum:"owner,manager,member,reader" doc:"The role."`
}

// NewOwner is to whom a workspace is handed over.
type NewOwner struct {
	PersonID int64 `json:"personId" minimum:"1" doc:"A member."`
}

// Installation is what its owner has set for all workspaces, and what those use.
type Installation struct {
	InstallationSettings
	Workspaces []WorkspaceUsage `json:"workspaces" doc:"All workspaces, by name."`
}

// InstallationSettings are what the owner of the installation has set.
type InstallationSettings struct {
	SignUp      string         `json:"signUp" enum:"open,invitation,closed" doc:"Who may sign up: anybody, who was invited, or nobody."`
	AuditDays   int            `json:"auditDays" minimum:"30" maximum:"3650" doc:"For how many days entries of the audit trail are kept."`
	MaxKeepDays int            `json:"maxKeepDays" minimum:"0" maximum:"3650" doc:"For how many days lists may be kept at most; 0: any time."`
	Provider    SignInProvider `json:"provider" doc:"The sign-in provider."`
	Limits      Limits         `json:"limits" doc:"What each workspace may ask of the service."`
}

// Limits are what each workspace may ask of the service: in a minute, and at a time.
type Limits struct {
	RequestsMinute int `json:"requestsMinute" minimum:"60" maximum:"1000000" doc:"Requests a minute."`
	ChecksMinute   int `json:"checksMinute" minimum:"1" maximum:"100000" doc:"Single addresses checked a minute."`
	Imports        int `json:"imports" minimum:"1" maximum:"100" doc:"Files imported or sent at a time."`
	Exports        int `json:"exports" minimum:"1" maximum:"100" doc:"Files exported at a time."`
	Streams        int `json:"streams" minimum:"1" maximum:"10000" doc:"Event streams open at a time."`
	Uploads        int `json:"uploads" minimum:"1" maximum:"1000" doc:"Files sent part by part that are not imported yet."`
	UploadMB       int `json:"uploadMb" minimum:"1" maximum:"1000000" doc:"The size of those together, in millions of bytes."`
	Lists          int `json:"lists" minimum:"1" maximum:"1000000" doc:"Lists that are kept."`
}

// SignInProvider is where people of the installation sign in (OpenID Connect).
type SignInProvider struct {
	Name     string  `json:"name" maxLength:"60" doc:"What its button says."`
	Issuer   string  `json:"issuer" maxLength:"300" doc:"Its issuer, an https URL; empty: there is none."`
	Client   string  `json:"client" maxLength:"200" doc:"What it calls Varnet (client ID)."`
	Secret   *string `json:"secret,omitempty" maxLength:"500" doc:"The secret of Varnet there; left out, the one that is kept stays, while the issuer does. It is never shown."`
	Redirect string  `json:"redirect,omitempty" doc:"The URL that it must send people back to; told, not set."`
}

// WorkspaceUsage is how much of the installation a workspace uses.
type WorkspaceUsage struct {
	ID        int64      `json:"id" doc:"Names it."`
	Name      string     `json:"name" doc:"Its name."`
	Members   int64      `json:"members" doc:"How many people are in it."`
	Lists     int64      `json:"lists" doc:"How many lists it has."`
	Rows      int64      `json:"rows" doc:"How many rows those have."`
	MaxRows   int64      `json:"maxRows" doc:"How many they may have; 0: any number."`
	Runs      int64      `json:"runs" doc:"How many runs were begun in the last 30 days."`
	Addresses int64      `json:"addresses" doc:"How many addresses those verified."`
	LastRunAt *time.Time `json:"lastRunAt,omitempty" doc:"When the last run was begun."`
	CreatedAt time.Time  `json:"createdAt" doc:"When it was made."`
}

// WorkspaceLimits limit a workspace.
type WorkspaceLimits struct {
	MaxRows int64 `json:"maxRows" minimum:"0" maximum:"1000000000" doc:"How many rows all its lists may have; 0: any number."`
}

// AuditEntry is what the audit trail says of one act.
type AuditEntry struct {
	Seq      int64     `json:"seq" doc:"Its number in the trail."`
	At       time.Time `json:"at" doc:"When it was."`
	PersonID int64     `json:"personId,omitempty" doc:"Who did it."`
	Person   string    `json:"person,omitempty" doc:"Their name, if they are still known."`
	KeyID    int64     `json:"keyId,omitempty" doc:"The key it was done with."`
	Key      string    `json:"key,omitempty" doc:"Its name, if there still is one."`
	Job      string    `json:"job,omitempty" doc:"The job that did it, where nobody was there."`
	From     string    `json:"from,omitempty" doc:"From which network address."`
	Action   string    `json:"action" doc:"What was done: the name of an operation, or of what a job did."`
	Says     string    `json:"says" doc:"The same in words."`
	Thing    string    `json:"thing,omitempty" doc:"On which thing, such as lists/12."`
	Address  string    `json:"address,omitempty" doc:"The fingerprint of the address it was about."`
	Result   string    `json:"result" doc:"done, begun, or refused."`
	Detail   string    `json:"detail,omitempty" doc:"Anything else."`
	Hash     string    `json:"hash" doc:"SHA-256 of the hash before it and what was written."`
}

// AuditVerification is what came of holding the audit trail against its hashes.
type AuditVerification struct {
	Entries int64  `json:"entries" doc:"How many entries it has."`
	First   int64  `json:"first" doc:"The number of the first."`
	Last    int64  `json:"last" doc:"The number of the last."`
	Hash    string `json:"hash" doc:"The hash of the last: note it elsewhere, and the trail up to there can be told from another."`
	Broken  int64  `json:"broken,omitempty" doc:"The first entry that is not as it was written; left out where all are."`
	Says    string `json:"says" doc:"The same in words."`
}

// DeviceGrant is what a device without a browser is let in by (RFC 8628).
type DeviceGrant struct {
	Secret    string    `json:"secret" doc:"The device asks with it whether it was let in."`
	Code      string    `json:"code" doc:"The device shows it; a person who is signed in types it."`
	URL       string    `json:"url" doc:"Where it is typed."`
	URLWhole  string    `json:"urlWhole" doc:"The same with the code in it."`
	ExpiresAt time.Time `json:"expiresAt" doc:"When it expires."`
	Interval  int       `json:"interval" doc:"How many seconds to wait between two questions."`
}

// DeviceSecret asks whether a device was let in.
type DeviceSecret struct {
	Secret string `json:"secret" minLength:"1" maxLength:"100" doc:"The secret of the grant."`
}

// DeviceState is whether a device was let in.
type DeviceState struct {
	State string `json:"state" enum:"waiting,too-soon,in" doc:"waiting: nobody has typed the code yet; too-soon: ask more seldom; in: it was let in."`
	Token string `json:"token,omitempty" doc:"What the device sends as Authorization: Bearer … from now on, once it is in."`
}

// DeviceCode is the code that a device shows.
type DeviceCode struct {
	Code string `json:"code" minLength:"1" maxLength:"20" doc:"The code, however typed."`
}

// DeviceAnswer lets a device in or turns it away.
type DeviceAnswer struct {
	DeviceCode
	LetIn bool `json:"letIn" doc:"Whether it is let in."`
}

// WaitingDevice is a device that waits to be let in.
type WaitingDevice struct {
	Device string    `json:"device" doc:"The device, as it says itself."`
	Place  string    `json:"place" doc:"The network address from which it asks."`
	At     time.Time `json:"at" doc:"When it asked last."`
	Says   string    `json:"says" doc:"What to mind before letting it in."`
}

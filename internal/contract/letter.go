package contract

// LetterServer is the submission server by which the installation sends letters.
type LetterServer struct {
	Host     string `json:"host" minLength:"1" maxLength:"253" doc:"Its name or address."`
	Port     int    `json:"port" minimum:"1" maximum:"65535" doc:"Its port: usually 587 with STARTTLS, 465 with TLS."`
	Security string `json:"security" enum:"starttls,tls,none" doc:"How the connection is encrypted; none is only for a server on this machine alone."`
	Username string `json:"username,omitempty" maxLength:"200" doc:"The name to sign in with; left out where it needs none."`
	Sender   string `json:"sender" minLength:"3" maxLength:"320" doc:"Name and address of the sender, such as Varnet <varnet@fernhollow.example>."`
	BaseURL  string `json:"baseUrl" minLength:"8" maxLength:"300" doc:"Where people reach the console: links in letters begin with it."`
}

// LetterSettings are whether and how letters are sent.
type LetterSettings struct {
	Server   *LetterServer `json:"server,omitempty" doc:"The submission server; left out where none is set up."`
	Password bool          `json:"password" doc:"Whether a password is kept; it is never shown."`
	Says     string        `json:"says" doc:"The same in words."`
}

// NewLetterServer sets a submission server up.
type NewLetterServer struct {
	LetterServer
	Password *string `json:"password,omitempty" maxLength:"500" doc:"The password to sign in with; left out, the one that is kept stays, while host and port do; empty, none."`
}

// LetterTest is to whom a test letter goes.
type LetterTest struct {
	To string `json:"to" minLength:"3" maxLength:"320" doc:"The address to which a test letter goes."`
}

// LetterSent says that a letter was taken by the submission server.
type LetterSent struct {
	Says string `json:"says" doc:"What was done."`
}

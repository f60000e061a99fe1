package contract

import (
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
)

// Held is all that a workspace holds about an address, as its person may ask for it.
type Held struct {
	Address   string          `json:"address" doc:"The address."`
	Workspace string          `json:"workspace" doc:"The name of the workspace."`
	At        time.Time       `json:"at" doc:"When it was looked up."`
	Says      string          `json:"says" doc:"The whole in a sentence or two."`
	Lists     []HeldList      `json:"lists" doc:"The lists that hold it, earlier versions and archived ones included."`
	Letters   []HeldLetter    `json:"letters" doc:"The mailings that went to it."`
	Outcome   *HeldOutcome    `json:"outcome,omitempty" doc:"What is remembered of the messages sent to it, also when their lists are gone."`
	Activity  *HeldActivity   `json:"activity,omitempty" doc:"When something was seen of it last."`
	Absent    *time.Time      `json:"absent,omitempty" doc:"When its mailbox was found absent first."`
	Elsewhere []HeldElsewhere `json:"elsewhere" doc:"Where else it is named."`
	ErasedAt  *time.Time      `json:"erasedAt,omitempty" doc:"When it was erased. It is not kept again until somebody allows it."`
}

// HeldList is what a list holds about an address.
type HeldList struct {
	ID       int64           `json:"id" doc:"Names the list."`
	Name     string          `json:"name" doc:"Its name."`
	FileName string          `json:"fileName" doc:"The file it came from."`
	At       time.Time       `json:"at" doc:"When it was imported."`
	Rows     []HeldRow       `json:"rows" doc:"The rows that hold the address, the first hundred of them."`
	RowsAll  int             `json:"rowsAll" doc:"How many rows hold it."`
	Override policy.Decision `json:"override,omitempty" enum:"keep,hold,drop" doc:"What a person decided about it, whatever the policy says."`
	Results  []HeldResult    `json:"results" doc:"What runs found of it."`
}

// HeldRow is a row that holds an address.
type HeldRow struct {
	Line  int64      `json:"line" doc:"The line of the file."`
	Own   bool       `json:"own" doc:"Whether it is the row of the person; otherwise the address stands among other words in the row of somebody else."`
	Cells []HeldCell `json:"cells" doc:"Its cells; of the row of somebody else only those that name the address, and in the file for the person none."`
}

// HeldCell is a cell of such a row.
type HeldCell struct {
	Column string `json:"column" doc:"The name of the column."`
	Text   string `json:"text" doc:"The text of the cell."`
}

// HeldResult is what a run found of an address.
type HeldResult struct {
	RunID   int64           `json:"runId" doc:"Names the run."`
	At      time.Time       `json:"at" doc:"When it was found."`
	Finding finding.Finding `json:"finding" enum:"deliverable,catch-all,undecided,undeliverable" doc:"What was found."`
	Title   string          `json:"title" doc:"The cause in a few words."`
	Meaning string          `json:"meaning" doc:"What that means."`
	Said    []HeldReply     `json:"said" doc:"What the mail hosts said, in order."`
}

// HeldReply is what a mail host said about an address.
type HeldReply struct {
	At    time.Time `json:"at" doc:"When it was asked."`
	Reply string    `json:"reply" doc:"What it answered, or what happened instead."`
}

// HeldLetter is a mailing that went to an address.
type HeldLetter struct {
	Mailing string     `json:"mailing" doc:"The name of the mailing."`
	SentAt  time.Time  `json:"sentAt" doc:"When it was sent."`
	Outcome string     `json:"outcome" doc:"What became of the message; empty while nothing is known."`
	Words   string     `json:"words" doc:"What came back, in its words."`
	At      *time.Time `json:"at,omitempty" doc:"When it came back."`
}

// HeldOutcome is what is remembered of messages to an address.
type HeldOutcome struct {
	Outcome string    `json:"outcome" doc:"What became of the last message that counts."`
	Times   int       `json:"times" doc:"How many messages that is so of."`
	At      time.Time `json:"at" doc:"When that was."`
	Words   string    `json:"words" doc:"What came back, in its words."`
}

// HeldActivity is what was seen of an address last.
type HeldActivity struct {
	At     time.Time `json:"at" doc:"When that was."`
	Kind   string    `json:"kind" doc:"What was seen."`
	Source string    `json:"source" doc:"Where it was seen."`
}

// HeldElsewhere is where else an address is named.
type HeldElsewhere struct {
	Place   string `json:"place" doc:"What kind of record that is."`
	Records int64  `json:"records" doc:"How many of them name it."`
}

// RightsFile is the file for a person.
type RightsFile struct {
	Address string `json:"address" minLength:"3" maxLength:"400" doc:"The address."`
	Format  string `json:"format,omitempty" enum:"json,text" default:"json" doc:"Whether it is JSON, or plain text that anybody can read."`
}

// RightsOrder is what is to be done about an address.
type RightsOrder struct {
	Address string `json:"address" minLength:"3" maxLength:"400" doc:"The address."`
	Kind    string `json:"kind" enum:"erase,allow" doc:"Whether it is erased and not kept again, or may be kept again."`
}

// RightsRequest is what a person asked for about their address, and what was done. It holds no
// address.
type RightsRequest struct {
	ID      int64      `json:"id" doc:"Names the request."`
	Kind    string     `json:"kind" enum:"file,erase,allow" doc:"What was asked for: all that is held as a file, that it is erased, or that it may be kept again."`
	Mark    string     `json:"mark" doc:"By which requests about the same address are known: the beginning of its keyed fingerprint."`
	State   string     `json:"state" enum:"working,done" doc:"Whether it is done."`
	Rows    int64      `json:"rows" doc:"How many rows became blank."`
	Results int64      `json:"results" doc:"How many results were erased."`
	Says    string     `json:"says" doc:"What was done, or what it waits for."`
	ByWhom  string     `json:"byWhom" doc:"Who ordered it."`
	BegunAt time.Time  `json:"begunAt" doc:"When that was."`
	EndedAt *time.Time `json:"endedAt,omitempty" doc:"When it was done."`
}

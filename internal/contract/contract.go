// Package contract holds the shapes of the API: what the service sends and the
// Go client reads. The OpenAPI document is made from them.
package contract

import (
	"fmt"
	"slices"
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/sheet"
)

// Preview is what the beginning of a file looks like.
type Preview struct {
	Format        string       `json:"format" doc:"What the file is, told by its content."`
	Sheets        []string     `json:"sheets" doc:"The sheets of a spreadsheet."`
	Sheet         string       `json:"sheet,omitempty" doc:"The sheet that is read."`
	Packed        string       `json:"packed,omitempty" doc:"What it is packed in."`
	Encodings     []string     `json:"encodings" doc:"The encodings that can be chosen."`
	Dialect       Dialect      `json:"dialect" doc:"How the text is written, as far as it was recognised."`
	Columns       []string     `json:"columns" doc:"The names of the columns."`
	AddressColumn int          `json:"addressColumn" doc:"The column that holds the addresses, from 0; -1: none was recognised."`
	AlsoAddresses []int        `json:"alsoAddresses" doc:"Other columns that hold addresses."`
	Types         []sheet.Type `json:"types" doc:"What each column holds, told by the first rows."`
	Rows          [][]string   `json:"rows" doc:"The cells of the first rows."`
	Sentence      string       `json:"sentence" doc:"What was recognised, in a sentence."`
}

// List is rows somebody imported.
type List struct {
	ID       int64    `json:"id" doc:"Names the list."`
	Name     string   `json:"name" doc:"Its name."`
	FileName string   `json:"fileName" doc:"The file that it was imported from."`
	Format   string   `json:"format" doc:"What the file was, told by its content."`
	Sheet    string   `json:"sheet,omitempty" doc:"The sheet of the spreadsheet that its rows come from."`
	Columns  []string `json:"columns" doc:"The names of its columns, in order."`
	// AddressColumns are in the order in which they are used.
	AddressColumns []int        `json:"addressColumns" doc:"The columns that hold addresses, from 0. A row is decided on by the first address that can be kept."`
	Types          []sheet.Type `json:"types" doc:"What each column holds: text, number or date."`
	Rows           int64        `json:"rows" doc:"Rows, without the header."`
	Addresses      int64        `json:"addresses" doc:"Different well-formed addresses."`
	Malformed      int64        `json:"malformed" doc:"Different texts that are not addresses."`
	Duplicates     int64        `json:"duplicates" doc:"Rows whose address is in an earlier row."`
	Blank          int64        `json:"blank" doc:"Rows whose address cell is empty."`
	Erased         int64        `json:"erased" doc:"Rows that are blank because their address was erased on request of its person."`
	Mended         int64        `json:"mended" doc:"Addresses from which something around them was removed."`
	Sentence       string       `json:"sentence" doc:"What was read, in a sentence."`
	// KeptUntil is left out for a list that is kept until somebody deletes it.
	KeptUntil    *time.Time `json:"keptUntil,omitempty" doc:"When it will be deleted with its runs, results and evidence."`
	ConnectionID int64      `json:"connectionId,omitempty" doc:"The connection that it came from; left out for a file, or where the connection is gone."`
	Collection   string     `json:"collection,omitempty" doc:"The collection of the connection."`
	MadeOf       []string   `json:"madeOf,omitempty" doc:"Of what it was made in the workshop, a sentence a step; left out for a list that was imported."`
	// EarlierID is left out for a list that was imported but once.
	EarlierID int64     `json:"earlierId,omitempty" doc:"The list that these rows were before a file was imported again."`
	CreatedAt time.Time `json:"createdAt" doc:"When it was imported."`
	// ArchivedAt is left out for a list that is not archived.
	ArchivedAt *time.Time `json:"archivedAt,omitempty" doc:"When it was archived."`
	LastRun    *Run       `json:"lastRun,omitempty" doc:"Its newest run."`
	Estimate   *Estimate  `json:"estimate,omitempty" doc:"Its last quick estimate; in one list alone, and left out where there is none."`
}

// Worker is a process that works on runs.
type Worker struct {
	ID      string `json:"id" doc:"Names the process."`
	Name    string `json:"name" doc:"The host's name."`
	Version string `json:"version" doc:"What it was built from."`
	Serves  bool   `json:"serves" doc:"Whether it serves API and console, too."`
	// Location is "" for the service's.
	Location string `json:"location,omitempty" doc:"Where it is: it goes out by the direct route of its location, and by nothing else. Not given: it works as the service does."`
	Lanes    int    `json:"lanes" doc:"How many lanes it works in at once."`
	Parcels  int    `json:"parcels" doc:"Parcels in hand: the lanes it works in now."`
	// Routes is by the routes' names.
	Routes    map[string]int64 `json:"routes" doc:"How many sessions it has begun by each route since it started."`
	Draining  bool             `json:"draining" doc:"Whether it comes to its end and takes nothing new."`
	StartedAt time.Time        `json:"startedAt" doc:"When it was started."`
	SeenAt    time.Time        `json:"seenAt" doc:"Its last heartbeat; a worker silent for 12 seconds is considered lost."`
}

// ServiceHealth is what waits to be worked, and what it waits for.
type ServiceHealth struct {
	Sentence string   `json:"sentence" doc:"How the service is, for people."`
	Queue    []Queued `json:"queue" doc:"The parcels of all runs that go on."`
	// Failing is [] where all goes well.
	Failing []Failing `json:"failing" doc:"Background work that has failed each time for a minute or longer; what has failed longest comes first."`
	// Database is PostgreSQL's own word.
	Database      string `json:"database" doc:"The version of the database."`
	DatabaseBytes int64  `json:"databaseBytes" doc:"How much room it takes."`
}

// Failing is work of one kind that keeps failing.
type Failing struct {
	Kind     string    `json:"kind" doc:"The kind of job, as log and metrics name it."`
	Does     string    `json:"does" doc:"What such jobs do."`
	Jobs     int64     `json:"jobs" doc:"How many of them fail."`
	At       string    `json:"at,omitempty" doc:"What the one that has failed longest works on: a run or a mail operator; left out otherwise."`
	Since    time.Time `json:"since" doc:"When it failed first."`
	Attempts int       `json:"attempts" doc:"How often it was tried."`
	Said     string    `json:"said" doc:"Its last error."`
}

// Queued is how much of one kind waits.
type Queued struct {
	Kind      string `json:"kind" doc:"In hand, ready, postponed or paused."`
	Says      string `json:"says" doc:"What that means."`
	Parcels   int64  `json:"parcels" doc:"Parcels that wait."`
	Addresses int64  `json:"addresses" doc:"The addresses in them."`
}

// Retention is for how long lists are kept with all that was found out.
type Retention struct {
	Days    int `json:"days" minimum:"0" maximum:"3650" doc:"Days after a list was imported or last run; 0: until somebody deletes it."`
	MaxDays int `json:"maxDays,omitempty" doc:"The most that the installation allows; left out where it allows any. Told, not set."`
}

// Common is what two lists have in common.
type Common struct {
	Addresses int64  `json:"addresses" doc:"Addresses of the list that are also in the other one."`
	Sentence  string `json:"sentence" doc:"The same in words."`
}

// NewUpload is a file that is to be sent part by part.
type NewUpload struct {
	Size int64 `json:"size" minimum:"1" maximum:"4294967296" doc:"Its size in bytes."`
}

// Upload is a file on its way in.
type Upload struct {
	Size     int64 `json:"size" doc:"Its size in bytes."`
	Received int64 `json:"received" doc:"How many of them are there; the next part begins so."`
}

// Estimate is what a sample says of a list before it is run.
type Estimate struct {
	Addresses int64            `json:"addresses" doc:"All addresses of the list: the whole of every share."`
	Sampled   int64            `json:"sampled" doc:"Addresses that were asked about."`
	Late      int64            `json:"late" doc:"Of those, the ones that did not answer in time."`
	LeftOut   Share            `json:"leftOut" doc:"The share that will not be kept."`
	Findings  []EstimatedShare `json:"findings" doc:"The share of each finding."`
	Sentence  string           `json:"sentence" doc:"The same in words."`
	At        time.Time        `json:"at" doc:"When the sample was asked about."`
}

// EstimatedShare is the share of addresses that will have a finding.
type EstimatedShare struct {
	Finding finding.Finding `json:"finding" enum:"deliverable,catch-all,undecided,undeliverable" doc:"The finding."`
	Share
}

// Run is one verification of one list.
type Run struct {
	ID       int64  `json:"id" doc:"Names the run."`
	ListID   int64  `json:"listId" doc:"Names its list."`
	ListName string `json:"listName" doc:"The name of the list."`
	Depth    string `json:"depth" enum:"syntax,domain,mailbox" doc:"How far it goes: syntax, domain or mailbox."`
	Policy   string `json:"policy" doc:"The name of the policy that decides."`
	Version  int    `json:"version,omitempty" doc:"Which version of the policy it is; ready-made ones have none."`
	State    string `json:"state" enum:"drafted,running,paused,waiting,finished,stopped" doc:"Drafted, running, paused, waiting for a later round, finished or stopped."`
	Times
	CreatedAt  time.Time  `json:"createdAt" doc:"When it was made."`
	FinishedAt *time.Time `json:"finishedAt,omitempty" doc:"When it ended; left out while it goes on."`

	Addresses int64      `json:"addresses" doc:"All addresses of the run, malformed ones too: the whole of every share."`
	Done      int64      `json:"done" doc:"Addresses with a result."`
	Open      int64      `json:"open" doc:"Addresses without one yet."`
	Postponed int64      `json:"postponed" doc:"Open addresses that wait for a later round."`
	NextRound *time.Time `json:"nextRound,omitempty" doc:"When the first postponed address may be asked again."`
	Reused    int64      `json:"reused" doc:"Addresses whose result was taken over from an earlier run."`
	Known     int64      `json:"known" doc:"Domains of which it was known from before how their hosts take mail, so that no made-up mailboxes were asked about; told when the run is finished."`
	Again     int64      `json:"again" doc:"Addresses that are asked again; their results stand until they are replaced."`
	MayAsk    int64      `json:"mayAsk" doc:"Addresses for which asking again may bring another answer."`
	PerMinute int64      `json:"perMinute" doc:"Addresses concluded in the last minute."`
	// ExpectedEnd is left out when nothing can be said.
	ExpectedEnd *Expected `json:"expectedEnd,omitempty" doc:"When all is expected to be asked that may be asked now, or the next round begins."`
	Waits       []Wait    `json:"waits" doc:"What is waited for at whom, the most addresses first: at most 12."`

	Flow           *Flow        `json:"flow,omitempty" doc:"The picture of the run; left out where several runs are listed."`
	Causes         []CauseCount `json:"causes" doc:"Addresses by finding and cause, in the order of the stages."`
	Decisions      []Count      `json:"decisions" doc:"Rows by decision and reason under the run's policy."`
	Sentence       string       `json:"sentence" doc:"Where the run stands, in a sentence."`
	ExportSentence string       `json:"exportSentence" doc:"How many rows would be kept now and what is left out, in a sentence."`
	// Estimate is left out of a run of a list that was not estimated.
	Estimate string   `json:"estimate,omitempty" doc:"What the quick estimate of the list said, beside what became of it."`
	Notices  []string `json:"notices" doc:"What the operator must know: hosts that refuse us, no way out."`
	Kept     int64    `json:"kept" doc:"Rows that would be kept now."`
	Rows     int64    `json:"rows" doc:"All rows of the list."`
	Urgent   bool     `json:"urgent,omitempty" doc:"Whether it goes before others."`
	Cost     string   `json:"cost,omitempty" doc:"What it has cost so far, in a sentence; left out where there is no allowance, and where several runs are listed."`
}

// Flow is the picture of a run, laid out: the list flows from left to right through the
// stages, and at each a band leaves, as thick as the addresses it took.
type Flow struct {
	Says    string       `json:"says" doc:"The picture in a sentence."`
	Width   float64      `json:"width" doc:"The width of the drawing, in its own measure."`
	Height  float64      `json:"height" doc:"Its height."`
	Shapes  []FlowShape  `json:"shapes" doc:"The bands."`
	Columns []FlowColumn `json:"columns" doc:"The stages with what left there, then the end with what reached it."`
}

// FlowShape is a band of the flow.
type FlowShape struct {
	Tone policy.Decision `json:"tone,omitempty" enum:"keep,hold,drop" doc:"Its tone; left out for what is not concluded yet."`
	Path string          `json:"path" doc:"Its outline, as the data of an SVG path."`
	FlowFilter
}

// FlowColumn is a place where something leaves or arrives.
type FlowColumn struct {
	Name  string     `json:"name" doc:"What it is called."`
	X     float64    `json:"x" doc:"Where it begins."`
	Lines []FlowLine `json:"lines" doc:"What left or arrived there."`
}

// FlowLine is a line of text under the flow.
type FlowLine struct {
	Tone policy.Decision `json:"tone,omitempty" enum:"keep,hold,drop" doc:"The tone of a total; left out for other lines."`
	Text string          `json:"text" doc:"The line."`
	FlowFilter
}

// FlowFilter chooses the results that something in the flow stands for, as the filter of
// results; nothing is chosen by a line that stands for none.
type FlowFilter struct {
	Stage   finding.Stage   `json:"stage,omitempty" doc:"Those of this stage."`
	Finding finding.Finding `json:"finding,omitempty" doc:"Those with this finding."`
	Cause   finding.Cause   `json:"cause,omitempty" doc:"Those with this cause."`
}

// Times are when a run may work.
type Times struct {
	BeginAt      *time.Time `json:"beginAt,omitempty" doc:"When it is to begin, not before; once it began, when that was."`
	Hours        string     `json:"hours,omitempty" maxLength:"20" doc:"The hours of the day within which it works, such as 22:00-06:00."`
	Zone         string     `json:"zone,omitempty" maxLength:"60" doc:"The time zone of the hours, such as Europe/Berlin; UTC unless given."`
	LimitMinutes int        `json:"limitMinutes,omitempty" minimum:"0" maximum:"100000" doc:"Minutes after its beginning when it is stopped, what is known stays; 0: never."`
	// ResumeAt is left out of a run that is not paused by its hours.
	ResumeAt *time.Time `json:"resumeAt,omitempty" readOnly:"true" doc:"When a run that is paused by its hours goes on."`
}

// Expected is a time with its spread.
type Expected struct {
	At   time.Time `json:"at" doc:"The time."`
	From time.Time `json:"from" doc:"In 8 of 10 cases it is not earlier than this"`
	To   time.Time `json:"to" doc:"and not later than this."`
}

// Wait is what a run waits for at an operator.
type Wait struct {
	Operator  string     `json:"operator" doc:"Who runs the exchangers; empty for all the small ones that share lanes."`
	Addresses int64      `json:"addresses" doc:"Addresses that are waited for there."`
	Until     *time.Time `json:"until,omitempty" doc:"When the first of them may be asked; left out when that is now."`
	Failing   bool       `json:"failing,omitempty" doc:"Asking them, or planning the run, has been failing for a while, through no fault of the mail hosts."`
	Sentence  string     `json:"sentence" doc:"What is waited for, in a sentence."`
}

// Draft is what a run will take.
type Draft struct {
	Rows      int64 `json:"rows" doc:"Rows of the list."`
	Addresses int64 `json:"addresses" doc:"All addresses of the list, malformed ones too."`
	Malformed int64 `json:"malformed" doc:"Of those, texts that are not addresses."`
	Reused    int64 `json:"reused" doc:"Results that are taken over from earlier runs."`
	Hopeless  int64 `json:"hopeless" doc:"Addresses at domains that DNS rules out, as far as was looked."`
	Ask       int64 `json:"ask" doc:"Addresses to ask mail hosts about."`
	Operators int   `json:"operators" doc:"Operators that were found out."`
	LookedUp  int64 `json:"lookedUp" doc:"Addresses at the domains that were looked up for this, the largest."`
	// The times are seconds of asking.
	Seconds float64 `json:"seconds" doc:"How long asking is expected to take."`
	From    float64 `json:"from" doc:"In 8 of 10 cases it takes at least this many seconds"`
	To      float64 `json:"to" doc:"and at most this many."`
	// Slowest is empty when nobody is to be asked.
	Slowest  string `json:"slowest,omitempty" doc:"The operator that is expected to take longest."`
	Sentence string `json:"sentence" doc:"What the run will take, in sentences."`
	// Allowance is left out where none is kept.
	Allowance *SaidBefore `json:"allowance,omitempty" doc:"What the run may cost; left out where there is no allowance."`
}

// CauseCount is how many addresses have a finding by a cause.
type CauseCount struct {
	Finding   finding.Finding `json:"finding" enum:"deliverable,catch-all,undecided,undeliverable" doc:"The finding."`
	Cause     finding.Cause   `json:"cause" doc:"The cause, by its code."`
	Stage     finding.Stage   `json:"stage" doc:"The stage at which it was found."`
	Title     string          `json:"title" doc:"The cause in a few words."`
	Addresses int64           `json:"addresses" doc:"Addresses with this finding and cause."`
	AskAgain  bool            `json:"askAgain" doc:"Whether asking again may bring another answer."`
}

// Result is what was found out about one address.
type Result struct {
	Ordinal    int32           `json:"ordinal" doc:"The ordinal of the first row cell with the address; 0 for a check without a list."`
	Typed      string          `json:"typed" doc:"The text of the cell."`
	Mailbox    string          `json:"mailbox,omitempty" doc:"What a host is asked about; left out for what is not an address."`
	Domain     string          `json:"domain,omitempty" doc:"The domain of the address, in its ASCII form."`
	Finding    finding.Finding `json:"finding" enum:"deliverable,catch-all,undecided,undeliverable" doc:"What was found."`
	Cause      finding.Cause   `json:"cause" doc:"Why, by its code."`
	Title      string          `json:"title" doc:"The cause in a few words."`
	Traits     []finding.Trait `json:"traits" doc:"What else is known of the address, by codes."`
	Odds       float64         `json:"odds" doc:"The estimated probability, 0 to 1, that a message sent now would be delivered."`
	Decision   policy.Decision `json:"decision" enum:"keep,hold,drop" doc:"What is decided about its rows."`
	Overridden bool            `json:"overridden,omitempty" doc:"Whether somebody decided so, and not the policy."`
	Suggestion string          `json:"suggestion,omitempty" doc:"The address that may have been meant."`
	At         time.Time       `json:"at" doc:"When it was found."`
}

// Evidence is one result with all that was seen.
type Evidence struct {
	Result
	Meaning  string   `json:"meaning" doc:"What the cause means."`
	Advice   string   `json:"advice" doc:"What to do."`
	Factors  []Factor `json:"factors" doc:"What the odds are made of; their product is the odds."`
	Line     int64    `json:"line,omitempty" doc:"The line of the file on which the row begins."`
	Mended   []string `json:"mended,omitempty" doc:"What was removed from around the address."`
	Problem  string   `json:"problem,omitempty" doc:"Why the text is not an address."`
	Operator string   `json:"operator,omitempty" doc:"Who runs the exchangers."`
	DNS      *Domain  `json:"dns,omitempty" doc:"What DNS said."`
	Asked    []Asked  `json:"asked,omitempty" doc:"Each time a host was asked about the mailbox."`
	// AcceptanceSays is left out with Acceptance.
	AcceptanceSays string      `json:"acceptanceSays,omitempty" doc:"What that means for the mailbox, in a sentence."`
	Acceptance     *Acceptance `json:"acceptance,omitempty" doc:"What the host did with made-up mailboxes of the domain."`
	History        []Past      `json:"history,omitempty" doc:"What other runs of the workspace found of the same address, the newest first."`
}

// Asked is one time a host was asked, with the conversation around it.
type Asked struct {
	At           time.Time     `json:"at" doc:"When the host was asked."`
	TookMS       float64       `json:"tookMs" doc:"How long its answer took, in milliseconds."`
	Reply        string        `json:"reply,omitempty" doc:"The reply about the mailbox, word for word."`
	Why          string        `json:"why" doc:"How the reply was read, or why there is none."`
	Letter       bool          `json:"letter,omitempty" doc:"Whether it is what became of a letter that was really sent, not an answer to a question."`
	Conversation *Conversation `json:"conversation,omitempty" doc:"The conversation in which it was asked."`
}

// Words is the registry: all causes and traits with their words.
type Words struct {
	Causes []CauseInfo `json:"causes" doc:"All causes."`
	Traits []TraitInfo `json:"traits" doc:"All traits."`
	Scopes []ScopeInfo `json:"scopes" doc:"All scopes of keys."`
	Roles  []RoleInfo  `json:"roles" doc:"All roles, the one that may do most first."`
}

// ShippedEntry is an entry of a catalogue that ships with Varnet.
type ShippedEntry struct {
	Name   string `json:"name" doc:"The name, or domain."`
	Counts bool   `json:"counts" doc:"Whether it counts in the workspace: false where an exception of its own stands against it."`
}

// CatalogueEntry is a workspace's own addition to a catalogue, or an exception
// from it.
type CatalogueEntry struct {
	Kind   string `json:"kind" enum:"role,no-reply,disposable,free-mail,trap-name,trap-domain,trap-typo-domain" doc:"Which catalogue."`
	Name   string `json:"name" doc:"A domain, or for role, no-reply and trap-name a name before the @."`
	Except bool   `json:"except,omitempty" doc:"True: the shipped catalogue has it, and it does not count here."`
}

// CatalogueEntries are entries to be added.
type CatalogueEntries struct {
	Entries []CatalogueEntry `json:"entries" minItems:"1" maxItems:"200000" doc:"The entries; all of them are added, or none."`
}

// NewCatalogueSource is a catalogue to follow.
type NewCatalogueSource struct {
	Kind string `json:"kind" enum:"role,no-reply,disposable,free-mail,trap-name,trap-domain,trap-typo-domain" doc:"Which catalogue its entries count in."`
	URL  string `json:"url" minLength:"8" maxLength:"2000" doc:"Where it is: an https:// address, or a file:// one in the folder that the operator set up. One entry a line; # begins a comment."`
}

// CatalogueSource is a catalogue that is followed: it is read every day.
type CatalogueSource struct {
	ID        int64      `json:"id" doc:"Its number."`
	Kind      string     `json:"kind" doc:"Which catalogue its entries count in."`
	URL       string     `json:"url" doc:"Where it is."`
	Entries   int32      `json:"entries" doc:"How many entries it has."`
	Added     int32      `json:"added" doc:"How many its last change added."`
	Removed   int32      `json:"removed" doc:"How many its last change removed."`
	ReadAt    *time.Time `json:"readAt,omitempty" doc:"When it was read last."`
	ChangedAt *time.Time `json:"changedAt,omitempty" doc:"When it changed last."`
	Problem   string     `json:"problem,omitempty" doc:"Why it could not be read the last time; what it said before still counts."`
	Sentence  string     `json:"sentence" doc:"All of this in a sentence."`
}

// CatalogueEffect is what entries would alter.
type CatalogueEffect struct {
	Sentence string         `json:"sentence" doc:"The same in words."`
	Lists    []AffectedList `json:"lists" doc:"The lists with addresses that would be told otherwise, the newest first."`
}

// AffectedList is a list and how many of its addresses something is about.
type AffectedList struct {
	ID        int64  `json:"id" doc:"Names the list."`
	Name      string `json:"name" doc:"Its name."`
	Addresses int64  `json:"addresses" doc:"Addresses that the entries match."`
}

// ListChange is what is to be changed of a list; what is left out stays.
type ListChange struct {
	Name     *string `json:"name,omitempty" minLength:"1" maxLength:"200" doc:"What it is called."`
	KeepDays *int    `json:"keepDays,omitempty" minimum:"0" maximum:"3650" doc:"Days after it was imported or last run when it is deleted; 0: not until somebody does."`
	Archived *bool   `json:"archived,omitempty" doc:"Whether it is archived: not shown among the others, and kept as before."`
}

// Past is what a run found of an address.
type Past struct {
	RunID    int64           `json:"runId" doc:"Names the run."`
	ListID   int64           `json:"listId" doc:"Names its list."`
	ListName string          `json:"listName" doc:"The name of the list."`
	At       time.Time       `json:"at" doc:"When it was found."`
	Finding  finding.Finding `json:"finding" enum:"deliverable,catch-all,undecided,undeliverable" doc:"What was found."`
	Title    string          `json:"title" doc:"The cause in a few words."`
}

// NewRun is a run to be started.
type NewRun struct {
	Depth  string `json:"depth,omitempty" enum:"syntax,domain,mailbox" default:"mailbox" doc:"How far the run goes."`
	Policy string `json:"policy,omitempty" default:"careful" doc:"The policy that decides."`
	// ReuseDays 0 asks about every address.
	ReuseDays int  `json:"reuseDays,omitempty" minimum:"0" maximum:"365" doc:"Take over results of earlier runs that are younger than this many days: what is absent twice as long, a full mailbox a quarter, what was undecided never. 0: ask about all."`
	Urgent    bool `json:"urgent,omitempty" doc:"Whether it goes before others, at the higher cost that the plan says. Hosts are asked no faster for it."`
	Times
}

// Passed is a stage that an address being checked has passed.
type Passed struct {
	Stage finding.Stage `json:"stage" enum:"syntax,domain,exchanger,mailbox" doc:"The stage that was passed."`
	Says  string        `json:"says" doc:"What was seen there, in a sentence."`
}

// DomainCount is a domain of a list and what a run found out at it.
type DomainCount struct {
	Domain     string             `json:"domain" doc:"The domain, in its ASCII form."`
	Addresses  int64              `json:"addresses" doc:"Addresses of the list at the domain."`
	Operator   string             `json:"operator,omitempty" doc:"Who runs its exchangers."`
	Exchangers []string           `json:"exchangers" doc:"Its mail exchangers, the preferred first."`
	Acceptance string             `json:"acceptance,omitempty" doc:"What its hosts do with made-up mailboxes, in a sentence."`
	Since      *time.Time         `json:"since,omitempty" doc:"Since when that is known."`
	Findings   []FindingAddresses `json:"findings" doc:"Its addresses by finding, as far as they are concluded."`
}

// OperatorCount is an operator of the mail hosts of a list's domains, and what a
// run found out there.
type OperatorCount struct {
	Operator  string             `json:"operator" doc:"Who runs the exchangers."`
	Domains   int64              `json:"domains" doc:"Domains of the list whose exchangers it runs."`
	Addresses int64              `json:"addresses" doc:"Addresses of the list at these."`
	Findings  []FindingAddresses `json:"findings" doc:"Its addresses by finding, as far as they are concluded."`
}

// FindingAddresses is how many addresses have a finding.
type FindingAddresses struct {
	Finding   finding.Finding `json:"finding" enum:"deliverable,catch-all,undecided,undeliverable" doc:"The finding."`
	Addresses int64           `json:"addresses" doc:"Addresses with it."`
}

// Change is how many addresses have another finding than in another run.
type Change struct {
	From      finding.Finding `json:"from" enum:"deliverable,catch-all,undecided,undeliverable" doc:"The finding of the other run."`
	To        finding.Finding `json:"to" enum:"deliverable,catch-all,undecided,undeliverable" doc:"The finding of this run."`
	Addresses int64           `json:"addresses" doc:"Addresses that went from one to the other."`
}

// Comparison is what changed from one run of a list to another.
type Comparison struct {
	Both     int64     `json:"both" doc:"Addresses that have a result in both runs: the whole of every share."`
	Changes  []Change  `json:"changes" doc:"The most addresses first; findings that stayed are left out."`
	Rows     []Changed `json:"rows" doc:"The first addresses whose finding changed, at most 200."`
	Sentence string    `json:"sentence" doc:"The same in words."`
}

// ResultAges are how old the results of a run are.
type ResultAges struct {
	Results  int64      `json:"results" doc:"All results of the run: the whole of every share."`
	Ages     []AgeGroup `json:"ages" doc:"The youngest first; groups without a result are there, too."`
	MeanDays float64    `json:"meanDays" doc:"How old they are on average, in days."`
	Sentence string     `json:"sentence" doc:"The same in words."`
}

// AgeGroup is how many results are of some age.
type AgeGroup struct {
	UnderDays int   `json:"underDays,omitempty" doc:"Younger than this many days, but not than the group before; left out of the oldest."`
	Results   int64 `json:"results" doc:"How many."`
}

// Changed is an address whose finding changed.
type Changed struct {
	Ordinal int32           `json:"ordinal" doc:"Names the result."`
	Typed   string          `json:"typed" doc:"The address as it is in the file."`
	From    finding.Finding `json:"from" enum:"deliverable,catch-all,undecided,undeliverable" doc:"The finding of the other run."`
	To      finding.Finding `json:"to" enum:"deliverable,catch-all,undecided,undeliverable" doc:"The finding of this run."`
	Title   string          `json:"title" doc:"The cause now, in a few words."`
}

// KnownKey is a key of the workspace; the key itself is shown only when made.
type KnownKey struct {
	ID           int64      `json:"id" doc:"Names the key."`
	Name         string     `json:"name" doc:"What it is for."`
	Scopes       []string   `json:"scopes" doc:"What it may do."`
	CreatedAt    time.Time  `json:"createdAt" doc:"When it was made."`
	MadeBy       int64      `json:"madeBy,omitempty" doc:"The key by which it was made; left out where a person made it, that was on the installation itself, or it is gone."`
	Person       string     `json:"person,omitempty" doc:"The person who made it."`
	ExpiresAt    *time.Time `json:"expiresAt,omitempty" doc:"When it ends; left out of one that does not."`
	Networks     []string   `json:"networks" doc:"The networks from which it may be used; none: from anywhere."`
	Origins      []string   `json:"origins" doc:"Of the key of a form: the origins of the pages that it is for."`
	VisitorDay   int        `json:"visitorDay,omitempty" doc:"Of the key of a form: how often one of its visitors may ask a day."`
	LastUsedAt   *time.Time `json:"lastUsedAt,omitempty" doc:"When it was used last, to the minute."`
	LastUsedFrom string     `json:"lastUsedFrom,omitempty" doc:"From which address."`
	Yours        bool       `json:"yours" doc:"Whether this request was made with it."`
	Key          string     `json:"key,omitempty" doc:"The key itself, of one that was just made."`
}

// KeyRotation is how a key is replaced.
type KeyRotation struct {
	OverlapHours *int `json:"overlapHours,omitempty" minimum:"0" maximum:"720" doc:"For how many hours the old key goes on beside the new one; 24 unless given, 0: it ends at once."`
}

// NewKey is a key to be made.
type NewKey struct {
	Name        string   `json:"name" minLength:"1" maxLength:"120" doc:"What it is for."`
	Scopes      []string `json:"scopes" minItems:"1" maxItems:"20" enum:"read,import,run,export,check,manage,form,installation" doc:"What it may do; nothing beyond what you may do yourself."`
	ExpiresDays int      `json:"expiresDays,omitempty" minimum:"0" maximum:"3650" doc:"After how many days it ends; 0: it does not."`
	Networks    []string `json:"networks,omitempty" maxItems:"100" doc:"The networks from which it may be used, such as 192.0.2.0/24 or 2001:db8::/32; none: from anywhere."`
	Origins     []string `json:"origins,omitempty" maxItems:"50" doc:"For the scope form, which stands alone: the origins of the pages with the form, such as https://www.fernhollow.example."`
	VisitorDay  int      `json:"visitorDay,omitempty" minimum:"0" maximum:"10000" doc:"How often one visitor of the form may ask a day; 50 unless given."`
}

// ScopeInfo says what a scope lets do.
type ScopeInfo struct {
	Code string `json:"code" enum:"read,import,run,export,check,manage,form,installation" doc:"The scope."`
	Says string `json:"says" doc:"What it lets do."`
}

// RoleInfo says what somebody with a role may do.
type RoleInfo struct {
	Code string `json:"code" enum:"owner,manager,member,reader" doc:"The role."`
	Says string `json:"says" doc:"What it lets do."`
}

// ListRow is a row of a list as it was imported.
type ListRow struct {
	Row   int32    `json:"row" doc:"Its number in the list, from 1."`
	Line  int64    `json:"line" doc:"The line of the file on which it begins."`
	Cells []string `json:"cells" doc:"Its cells, in the order of the columns."`
}

// Override is a decision about some addresses of a list, whatever the policy says.
type Override struct {
	Ordinals  []int32         `json:"ordinals,omitempty" maxItems:"1000" doc:"The addresses, by the ordinals of their results."`
	Mailboxes []string        `json:"mailboxes,omitempty" maxItems:"10000" doc:"The addresses, or more of them, as they are written; those that are not in the list are passed over."`
	Decision  policy.Decision `json:"decision" enum:"keep,hold,drop,policy" doc:"What is to be done with them in all runs of the list; policy: what the policy says, as for all others."`
}

// OverrideMatching is a decision about all results that match a filter.
type OverrideMatching struct {
	Decision policy.Decision `json:"decision" enum:"keep,hold,drop,policy" doc:"What is to be done with them in all runs of the list; policy: what the policy says, as for all others."`
}

// Matching is how many results match a filter.
type Matching struct {
	Addresses int64   `json:"addresses" doc:"How many results match, at least; exactly where there are no more."`
	More      bool    `json:"more" doc:"Whether there are more, which were not counted."`
	Facets    []Facet `json:"facets" doc:"How many would match if one part of the filter had another value, of those that any would match. Decisions are not counted where the policy looks at each row."`
}

// Facet is a value that a part of a filter can have, and how many results would
// match then.
type Facet struct {
	Part      string `json:"part" enum:"finding,cause,trait,decision" doc:"The part of the filter."`
	Value     string `json:"value" doc:"Its value."`
	Addresses int64  `json:"addresses" doc:"How many results would match."`
}

// Overridden tells what came of a decision by an override.
type Overridden struct {
	Addresses int64 `json:"addresses" doc:"About how many it was decided."`
}

// AskAgain chooses the addresses to ask again. Without any choice it is all for
// which asking again may bring another answer.
type AskAgain struct {
	Findings []finding.Finding `json:"findings,omitempty" doc:"Addresses with one of these findings."`
	Causes   []finding.Cause   `json:"causes,omitempty" doc:"Addresses with one of these causes."`
	// Ordinals are chosen beside findings and causes.
	Ordinals []int32 `json:"ordinals,omitempty" maxItems:"1000" doc:"Only these of them, by the ordinals of their results; without findings and causes, whatever their cause."`
}

// Check tells of a finding or cause that there is not.
func (a AskAgain) Check() error {
	for _, f := range a.Findings {
		if !slices.Contains(finding.Findings(), f) {
			return fmt.Errorf("there is no finding %q", f)
		}
	}
	for _, c := range a.Causes {
		if _, ok := finding.Lookup(c); !ok {
			return fmt.Errorf("there is no cause %q", c)
		}
	}
	return nil
}

// Fits reports whether an address with this verdict is chosen.
func (a AskAgain) Fits(v finding.Verdict) bool {
	if len(a.Findings)+len(a.Causes) == 0 && len(a.Ordinals) > 0 {
		return true
	}
	if len(a.Findings)+len(a.Causes) == 0 {
		info, _ := finding.Lookup(v.Cause)
		return info.AskAgain
	}
	return (len(a.Findings) == 0 || slices.Contains(a.Findings, v.Finding)) && (len(a.Causes) == 0 || slices.Contains(a.Causes, v.Cause))
}

// OneAddress is an address that something is asked about. It goes in a body: addresses of
// people do not belong in URLs, which are logged on the way.
type OneAddress struct {
	Address string `json:"address" minLength:"1" maxLength:"2000" doc:"The address, as typed."`
}

// Addresses are addresses to be checked now.
type Addresses struct {
	Addresses []string `json:"addresses" minItems:"1" maxItems:"50" doc:"The addresses, as typed."`
}

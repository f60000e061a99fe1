package contract

import "time"

// RoutineSpec is what a routine does.
type RoutineSpec struct {
	// What is read.
	Source         string `json:"source" enum:"list,folder,url,connection" doc:"What it reads: the newest import of a list, the newest file of a pattern in the workspace's folder for routines, an HTTPS address, or a collection of a connection."`
	ListID         int64  `json:"listId,omitempty" minimum:"0" doc:"The list, whose newest import is verified."`
	File           string `json:"file,omitempty" maxLength:"300" doc:"A file, or a pattern of names such as members/*.csv."`
	URL            string `json:"url,omitempty" maxLength:"2000" doc:"The address; it is asked with its entity tag whether it has changed."`
	ConnectionID   int64  `json:"connectionId,omitempty" minimum:"0" doc:"The connection."`
	Collection     string `json:"collection,omitempty" maxLength:"1000" doc:"The ID of its collection."`
	CollectionName string `json:"collectionName,omitempty" maxLength:"200" doc:"The name of the collection, for sentences."`
	RecipeID       int64  `json:"recipeId,omitempty" minimum:"0" doc:"A saved recipe of steps, which make of what is read the list that is verified."`
	RecipeName     string `json:"recipeName,omitempty" maxLength:"100" doc:"The name of the recipe, for sentences."`

	// When.
	Rule     string `json:"rule,omitempty" maxLength:"300" doc:"When it is due: a recurrence rule (RFC 5545) such as FREQ=WEEKLY;BYDAY=MO; left out, not by the calendar."`
	Time     string `json:"time,omitempty" maxLength:"5" doc:"The time of the day at which it is due, such as 03:00."`
	Zone     string `json:"zone,omitempty" maxLength:"60" doc:"The time zone of time and hours, such as Europe/Berlin; UTC unless given."`
	OnChange bool   `json:"onChange,omitempty" doc:"Due after each change of its source, too."`

	// What is asked about, and decided.
	Ages   map[string]int `json:"ages,omitempty" doc:"For how many days a result is taken over, by its finding (deliverable, catch-all, undeliverable); one that is left out, and what is undecided, is asked about each time."`
	Policy string         `json:"policy" minLength:"1" maxLength:"40" doc:"The policy that decides."`

	// Where the result goes.
	Then      string          `json:"then" enum:"nothing,folder,url,connection" doc:"Where the result goes: nowhere, the kept rows to a file in the workspace's folder for routines or to an HTTPS address by PUT, or back to the connection that it reads."`
	ThenFile  string          `json:"thenFile,omitempty" maxLength:"300" doc:"The name of the file: {name} is that of the file that was read, {date} and {time} when it is written."`
	ThenURL   string          `json:"thenUrl,omitempty" maxLength:"2000" doc:"The address to which the kept rows are sent."`
	ThenSteps []WriteBackStep `json:"thenSteps,omitempty" maxItems:"10" doc:"What is written back to the connection. A collection is brought up to date each time, where the step says refresh."`

	// Its limits, and what people hear of it.
	Hours       string `json:"hours,omitempty" maxLength:"20" doc:"The hours of the day within which it verifies, such as 22:00-06:00."`
	MostChecks  int64  `json:"mostChecks,omitempty" minimum:"0" doc:"A person decides where more addresses would be asked about; 0: however many."`
	MostDropped int    `json:"mostDropped,omitempty" minimum:"0" maximum:"100" doc:"A person decides where more than this many in a hundred of those kept the time before would be dropped; 0: however many."`
	Tell        string `json:"tell" enum:"always,changes,problems" doc:"Whether people are notified each time that it is done, when something changed, or of problems alone."`
}

// NewRoutine is a routine to be made.
type NewRoutine struct {
	Name string `json:"name" minLength:"1" maxLength:"100" doc:"Its name."`
	RoutineSpec
}

// RoutineChange changes a routine; what is left out stays.
type RoutineChange struct {
	Name   *string      `json:"name,omitempty" minLength:"1" maxLength:"100" doc:"Its name."`
	Spec   *RoutineSpec `json:"spec,omitempty" doc:"What it does, all of it."`
	Paused *bool        `json:"paused,omitempty" doc:"Whether it is paused."`
}

// Routine is a standing order.
type Routine struct {
	ID        int64        `json:"id" doc:"Names the routine."`
	Name      string       `json:"name" doc:"Its name."`
	Spec      RoutineSpec  `json:"spec" doc:"What it does."`
	Says      []string     `json:"says" doc:"The same in sentences."`
	Due       string       `json:"due" doc:"When it is due, in words."`
	Paused    bool         `json:"paused" doc:"Whether it is paused."`
	NextAt    *time.Time   `json:"nextAt,omitempty" doc:"When it is due next; left out while it is paused, or where it does not go by the calendar."`
	ListID    int64        `json:"listId,omitempty" doc:"The list that it read last."`
	Last      *RoutineTime `json:"last,omitempty" doc:"Its newest time; left out before the first."`
	CreatedAt time.Time    `json:"createdAt" doc:"When it was made."`
}

// RoutineTime is one of the times at which a routine was due.
type RoutineTime struct {
	Number  int           `json:"number" doc:"Which time it is, from 1."`
	DueAt   time.Time     `json:"dueAt" doc:"When it was due."`
	Missed  int           `json:"missed,omitempty" doc:"How many missed times before it it stands for."`
	Why     string        `json:"why" enum:"calendar,change,person" doc:"Why it began: by the calendar, since its source had changed, or since a person wanted it to."`
	Dry     bool          `json:"dry,omitempty" doc:"Whether nobody was asked and nothing written."`
	State   string        `json:"state" enum:"reading,verifying,held,approved,done,failed,left,not run" doc:"Where it stands: held waits for a decision; approved goes on by one; left ended by one; not run: the time before was still at work."`
	ListID  int64         `json:"listId,omitempty" doc:"The list that it verified."`
	RunID   int64         `json:"runId,omitempty" doc:"Its run."`
	Record  RoutineRecord `json:"record" doc:"What it came to, in numbers."`
	Says    string        `json:"says" doc:"The same in sentences, or why it waits or failed."`
	BegunAt time.Time     `json:"begunAt" doc:"When it began."`
	EndedAt *time.Time    `json:"endedAt,omitempty" doc:"When it ended; left out while it goes on."`
}

// RoutineRecord is what a time of a routine came to.
type RoutineRecord struct {
	// What was read.
	File        string `json:"file,omitempty" doc:"The file or collection that was read."`
	ImportID    int64  `json:"importId,omitempty" doc:"The import from the connection."`
	WriteBackID int64  `json:"writeBackId,omitempty" doc:"The write-back to it."`
	SourceID    int64  `json:"sourceId,omitempty" doc:"The list that the source is, where steps made another of it."`
	Made        string `json:"made,omitempty" doc:"What the steps made of it, in a sentence."`
	Unchanged   bool   `json:"unchanged,omitempty" doc:"Whether it was what was read the time before."`
	Rows        int64  `json:"rows" doc:"Rows that came."`
	Addresses   int64  `json:"addresses" doc:"Different addresses among them: the whole of those that were asked about and reused."`
	Added       int64  `json:"added" doc:"Addresses that were not there the time before."`
	Gone        int64  `json:"gone" doc:"Addresses that were there the time before."`

	// What the run did, and what it decided.
	Asked        int64              `json:"asked" doc:"Addresses that were asked about."`
	Reused       int64              `json:"reused" doc:"Addresses whose result was taken over."`
	Kept         int64              `json:"kept" doc:"Rows that are kept."`
	KeptBefore   int64              `json:"keptBefore" doc:"Rows that were kept the time before."`
	NewlyDropped int64              `json:"newlyDropped" doc:"Addresses that were kept the time before and would be dropped now."`
	AgeDays      float64            `json:"ageDays" doc:"How old the results are on average, in days."`
	Changes      []RoutineMovements `json:"changes" doc:"Addresses whose finding changed, the most first."`

	// With what it is compared, and where it went.
	Before  int64  `json:"before,omitempty" doc:"The run of the time before, to compare with."`
	Written string `json:"written,omitempty" doc:"Where the kept rows were written."`
}

// RoutineMovements is how many addresses changed from one finding to another.
type RoutineMovements struct {
	From      string `json:"from" doc:"The finding the time before."`
	To        string `json:"to" doc:"The finding now."`
	Addresses int64  `json:"addresses" doc:"How many addresses."`
}

// RoutineDraft says what a routine would do, before it is made.
type RoutineDraft struct {
	Says []string    `json:"says" doc:"What it does, in sentences."`
	Next []time.Time `json:"next" doc:"The first times at which it is due by the calendar, at most 5."`
}

// RunRoutine begins a time of a routine.
type RunRoutine struct {
	Dry bool `json:"dry,omitempty" doc:"Describe what it would do; nobody is asked, and nothing written."`
}

// RoutineDecision has a time that is held go on, or end.
type RoutineDecision struct {
	GoOn bool `json:"goOn" doc:"Whether it goes on."`
}

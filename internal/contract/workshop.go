package contract

import (
	"time"

	"varnet/core/workshop"
)

// WorkshopStep is one step of making a list from lists. What does not belong to what it does is
// left out.
type WorkshopStep struct {
	Do   workshop.Do `json:"do" enum:"merge,without,both,only,duplicates,one,slice,strike,tidy" doc:"What it does: merge gives the rows of all lists, one for each key; without those in none of the others; both those in all others, too; only those of all lists in one alone; duplicates those that come again; one the first for each key; slice those that meet conditions or stand at some places; strike those without a term; tidy changes cells and columns."`
	With []string    `json:"with,omitempty" maxItems:"31" doc:"The other lists, by their numbers; of a list for which a newer file was imported, the newest is meant. In a file of the command line these may be names of files."`

	// What makes rows the same, of all that compare lists.
	By       workshop.By `json:"by,omitempty" enum:"address,mailbox,domain,exact,loose,digits" doc:"By what rows are the same: the address unless given; what its operator takes for the same mailbox; its domain; or a text as it stands, without case and spaces, or its digits alone."`
	Columns  []string    `json:"columns,omitempty" maxItems:"32" doc:"The columns that are looked at, in every list; those with addresses unless given. Strike looks in all columns unless given."`
	Together bool        `json:"together,omitempty" doc:"Whether all those columns make one key, as those of a household do."`

	// A merge.
	Keep    workshop.Keep   `json:"keep,omitempty" enum:"first,newest,filled" doc:"Of several rows with the same key, which cells a merge keeps: those of the first unless given, of the newest, or of the first with its empty cells filled from the others."`
	Newest  string          `json:"newest,omitempty" maxLength:"500" doc:"The column with the date that tells the newest row."`
	Aliases []WorkshopAlias `json:"aliases,omitempty" maxItems:"200" doc:"Columns of the other lists that are called otherwise in the first."`

	// A slice.
	Conditions []WorkshopCondition `json:"conditions,omitempty" maxItems:"100" doc:"The conditions of a slice."`
	Any        bool                `json:"any,omitempty" doc:"Whether one of the conditions is enough; otherwise all must be met."`
	From       int64               `json:"from,omitempty" minimum:"0" doc:"The first row of a slice, counted from 1 among those that meet the conditions."`
	To         int64               `json:"to,omitempty" minimum:"0" doc:"The last row of a slice."`
	Every      int64               `json:"every,omitempty" minimum:"0" doc:"Every nth row of those."`
	Last       int64               `json:"last,omitempty" minimum:"0" doc:"How many of the last rows."`
	Sample     int64               `json:"sample,omitempty" minimum:"0" maximum:"5000000" doc:"A random sample of this many of those rows."`
	Seed       uint64              `json:"seed,omitempty" doc:"The same seed draws the same sample."`

	// What strikes rows.
	Terms     []string     `json:"terms,omitempty" maxItems:"1000000" doc:"What is struck."`
	TermLists []string     `json:"termLists,omitempty" maxItems:"50" doc:"Names of saved lists of terms that are struck, too."`
	How       workshop.How `json:"how,omitempty" enum:"cell,word,part,domain,number" doc:"How a term must stand in a cell: as the whole cell unless given, as a word, anywhere, as a domain or one under it, or as a number by its digits."`
	Found     bool         `json:"found,omitempty" doc:"Whether the rows that hold a term are kept, instead of the others."`

	// A tidying.
	Changes []WorkshopChange `json:"changes,omitempty" maxItems:"100" doc:"What is changed of cells and columns, one after the other."`
}

// WorkshopAlias says that a column is one of the first list, however it is called.
type WorkshopAlias struct {
	Column string `json:"column" minLength:"1" maxLength:"500" doc:"What it is called in the other list."`
	As     string `json:"as" minLength:"1" maxLength:"500" doc:"What it is called in the first."`
}

// WorkshopCondition is a condition on a column, or on a fact about the address of a row.
type WorkshopCondition struct {
	Column string        `json:"column,omitempty" maxLength:"500" doc:"The column."`
	Fact   workshop.Fact `json:"fact,omitempty" enum:"domain,trait,operator,finding,cause,decision,checked,active" doc:"Or a fact: the address's domain or a trait; and where it was verified its operator, finding, cause, decision or when that was; or when something was seen of it last."`
	Test   workshop.Test `json:"test" enum:"is,contains,begins,empty,pattern,between,dates,last,month" doc:"What it is held against: is, contains and begins take one of several texts whatever the case; pattern a regular expression (RE2); between two numbers, dates two days, of which one may be empty; last a number of days until now; month the months of any year."`
	Values []string      `json:"values,omitempty" maxItems:"10000" doc:"The texts, numbers, days or months."`
	Not    bool          `json:"not,omitempty" doc:"Whether it must not hold. A cell that is not a number or date holds neither way."`
}

// WorkshopChange is one change of cells or columns.
type WorkshopChange struct {
	Do      workshop.Tidying `json:"do" enum:"trim,upper,lower,salutation,replace,local-part,domain,first-name,last-name,country,split,join,rename,order,drop" doc:"Of cells: trim spaces, upper or lower case, salutation case of names, replace a text. New columns: local part or domain of the address, first or last name of a column with full names, country of an IP address, split at a text, join several. Of columns: rename, order some first, drop."`
	Columns []string         `json:"columns,omitempty" maxItems:"200" doc:"The columns that it changes, reads, orders or drops."`
	To      string           `json:"to,omitempty" maxLength:"500" doc:"The name of the column that it makes or renames."`
	Rest    string           `json:"rest,omitempty" maxLength:"500" doc:"The name of the second column of a split."`
	Find    string           `json:"find,omitempty" maxLength:"500" doc:"The text that is replaced, or split at."`
	Pattern bool             `json:"pattern,omitempty" doc:"Whether that is a regular expression (RE2)."`
	With    string           `json:"with,omitempty" maxLength:"500" doc:"What replaces it, or stands between joined cells."`
}

// WorkshopOrder is what is to be made from lists.
type WorkshopOrder struct {
	ListID int64          `json:"listId" minimum:"1" doc:"The list it begins with; of one for which a newer file was imported, the newest is meant."`
	Steps  []WorkshopStep `json:"steps" maxItems:"20" doc:"What is done, one step after the other."`
	Split  *WorkshopSplit `json:"split,omitempty" doc:"Whether several lists are made of what is left."`
	Name   string         `json:"name,omitempty" maxLength:"200" doc:"The name of the new list; of several, what each name begins with."`
}

// WorkshopSplit parts a list: by a column, by a fact, or into parts of so many rows.
type WorkshopSplit struct {
	Column string        `json:"column,omitempty" maxLength:"500" doc:"One list for each value of this column."`
	Fact   workshop.Fact `json:"fact,omitempty" enum:"domain,trait,operator,finding,cause,decision,checked,active" doc:"One list for each value of this fact."`
	Each   int64         `json:"each,omitempty" minimum:"0" doc:"One list for each part of this many rows."`
}

// NewWorkshopJob has a list made, or says what it would be.
type NewWorkshopJob struct {
	WorkshopOrder
	DryRun bool `json:"dryRun,omitempty" doc:"Describe what would be made, and make nothing."`
}

// WorkshopJob is the making of a list.
type WorkshopJob struct {
	ID     int64  `json:"id" doc:"Its number."`
	DryRun bool   `json:"dryRun" doc:"Whether it only says what would be made."`
	State  string `json:"state" enum:"working,done,failed" doc:"How far it is."`
	Read   int64  `json:"read" doc:"Rows read so far. Some lists are read more than once."`
	Of     int64  `json:"of" doc:"Rows of all its lists."`
	Rows   int64  `json:"rows" doc:"Rows of what is made, once it is done."`

	// What came of it.
	Steps   []WorkshopDone `json:"steps" doc:"What came of each step, once it is done."`
	Columns []string       `json:"columns" doc:"The columns of what is made."`
	From    [][]string     `json:"from" doc:"The lists that each column comes from, by name."`
	First   [][]string     `json:"first" doc:"The first ten rows."`
	Parts   []WorkshopPart `json:"parts" doc:"The lists of a split, by size."`
	ListIDs []int64        `json:"listIds" doc:"The lists that were made."`
	Says    string         `json:"says" doc:"What was made of what, in a sentence; or why nothing was."`
	BegunAt time.Time      `json:"begunAt" doc:"When it began."`
	EndedAt *time.Time     `json:"endedAt,omitempty" doc:"When it ended."`
}

// WorkshopDone is what came of a step.
type WorkshopDone struct {
	Says   string  `json:"says" doc:"What it does, in words."`
	Before int64   `json:"before" doc:"Rows before it, with those of the other lists where it takes them, too."`
	Others []int64 `json:"others" doc:"Rows of the other lists."`
	Rows   int64   `json:"rows" doc:"Rows after it."`
}

// WorkshopPart is one of the lists of a split.
type WorkshopPart struct {
	Value string `json:"value" doc:"The value that its rows have, as it stands first; empty for rows without one."`
	Rows  int64  `json:"rows" doc:"How many rows."`
}

// NewStepRecipe saves steps under a name.
type NewStepRecipe struct {
	Name  string         `json:"name" minLength:"1" maxLength:"100" doc:"Its name."`
	Steps []WorkshopStep `json:"steps" minItems:"1" maxItems:"20" doc:"The steps."`
}

// StepRecipe is steps that are saved, for routines and for the next month.
type StepRecipe struct {
	ID        int64          `json:"id" doc:"Its number."`
	Name      string         `json:"name" doc:"Its name."`
	Steps     []WorkshopStep `json:"steps" doc:"The steps."`
	Says      []string       `json:"says" doc:"What each does, in words."`
	ChangedAt time.Time      `json:"changedAt" doc:"When it was changed last."`
}

// NewTermList saves terms under a name.
type NewTermList struct {
	Name  string   `json:"name" minLength:"1" maxLength:"100" pattern:"^[^,|:]*$" doc:"Its name."`
	Terms []string `json:"terms" minItems:"1" maxItems:"1000000" doc:"The terms: domains, addresses, names, numbers."`
}

// TermList is terms that are saved, to strike rows by again and again, and for policies.
type TermList struct {
	ID        int64     `json:"id" doc:"Its number."`
	Name      string    `json:"name" doc:"Its name."`
	Terms     int64     `json:"terms" doc:"How many terms there are."`
	First     []string  `json:"first" doc:"The first ten of them."`
	ChangedAt time.Time `json:"changedAt" doc:"When it was changed last."`
}

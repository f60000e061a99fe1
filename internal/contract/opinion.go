package contract

import "varnet/core/finding"

// Opinions is what other checks found of the rows of a list, beside what its last run found.
type Opinions struct {
	RunID  int64          `json:"runId,omitempty" doc:"The run; left out where the list was not run yet."`
	Checks []OpinionCheck `json:"checks" doc:"The other checks, each a column of the list."`
	Ours   OpinionJudged  `json:"ours" doc:"How often Varnet was right of the addresses that a message was sent to."`
	Says   string         `json:"says" doc:"What to do next, or how they compare, in a sentence."`
}

// OpinionCheck is one other check.
type OpinionCheck struct {
	Name   string        `json:"name" doc:"Whose check it is."`
	Column string        `json:"column" doc:"The column with what it found."`
	Words  []OpinionWord `json:"words" doc:"Its words, the most frequent first; at most 100."`
	Open   int64         `json:"open" doc:"Rows whose word nobody has said the meaning of."`
	Matrix []OpinionCell `json:"matrix" doc:"Rows by what it found and what Varnet did."`
	Says   string        `json:"says" doc:"How far both agree, in a sentence."`
	Judged OpinionJudged `json:"judged" doc:"How often it was right of the addresses that a message was sent to."`
}

// OpinionWord is a word of another check.
type OpinionWord struct {
	Word  string `json:"word" doc:"The word, in lower case."`
	Rows  int64  `json:"rows" doc:"Rows with it."`
	Known bool   `json:"known" doc:"Whether its meaning was said."`
	Means string `json:"means" doc:"What it means: a finding, or nothing; where it was not said, what it looks like."`
}

// OpinionCell counts rows.
type OpinionCell struct {
	Theirs finding.Finding `json:"theirs" doc:"What the other check found; empty: nothing."`
	Ours   finding.Finding `json:"ours" doc:"What Varnet found; empty: nothing."`
	Rows   int64           `json:"rows" doc:"How many rows."`
}

// OpinionJudged is how often a check was right.
type OpinionJudged struct {
	GoodArrived int64  `json:"goodArrived" doc:"Addresses that it called deliverable and that took the message."`
	GoodBounced int64  `json:"goodBounced" doc:"Addresses that it called deliverable and that bounced."`
	BadArrived  int64  `json:"badArrived" doc:"Addresses that it called undeliverable and that took the message."`
	BadBounced  int64  `json:"badBounced" doc:"Addresses that it called undeliverable and that bounced."`
	Says        string `json:"says" doc:"The same in a sentence."`
}

// OpinionRow is a row with what both found.
type OpinionRow struct {
	Ordinal int32           `json:"ordinal" doc:"The ordinal of its address in the list, by which the evidence is found."`
	Typed   string          `json:"typed" doc:"The address as it is in the file."`
	Word    string          `json:"word" doc:"The word of the other check."`
	Theirs  finding.Finding `json:"theirs" doc:"What it means; empty: nothing."`
	Ours    finding.Finding `json:"ours" doc:"What Varnet found; empty: nothing yet."`
	Title   string          `json:"title" doc:"Why, in short."`
	Odds    float64         `json:"odds" doc:"The odds that a message sent now would be delivered."`
}

// OpinionFilter chooses rows by what two checks found.
type OpinionFilter struct {
	Check  string `query:"check" required:"true" maxLength:"60" doc:"The name of the other check."`
	Theirs string `query:"theirs" enum:"none,deliverable,catch-all,undecided,undeliverable" doc:"What it found; none: nothing."`
	Ours   string `query:"ours" enum:"none,deliverable,catch-all,undecided,undeliverable" doc:"What Varnet found; none: nothing."`
	Apart  string `query:"apart" enum:"differ,contradict" doc:"differ: both found something, and not the same; contradict: one called the address deliverable, the other undeliverable."`
}

// OpinionQuery asks for a page of such rows.
type OpinionQuery struct {
	PageQuery
	OpinionFilter
}

// OpinionMeaning says what the words of another check mean.
type OpinionMeaning struct {
	Means map[string]string `json:"means" doc:"Findings by words, whatever their case: deliverable, catch-all, undecided, undeliverable, or empty for nothing. In place of all that was said before."`
}

package contract

import "time"

// Odds is what the workspace has learnt from its mailings of how likely messages to catch-all
// addresses arrive.
type Odds struct {
	Version  int        `json:"version" doc:"How often it has learnt; 0: not yet, and the odds are those of the shipped table."`
	MadeAt   *time.Time `json:"madeAt,omitempty" doc:"When it learnt last."`
	Messages int64      `json:"messages" doc:"The messages that it learnt from."`
	Shares   bool       `json:"shares" doc:"Whether outcomes count for other workspaces, and theirs here: as counts of domains with at least 20 addresses of 3 workspaces, never as addresses."`
	Says     string     `json:"says" doc:"The same in sentences."`
	// Judged is of the odds of a model where there are any, or else of those of the table.
	Judged  JudgedOdds    `json:"judged" doc:"The odds that were stated before messages were sent, held against what became of them."`
	Factors []OddsFactor  `json:"factors" doc:"What counts beside domain and operator, and how much."`
	Domains []OddsDomain  `json:"domains" doc:"The domains with the most messages."`
	History []OddsVersion `json:"history" doc:"What changed each time that it learnt, the latest first."`
}

// JudgedOdds is odds held against outcomes.
type JudgedOdds struct {
	ByTable  bool        `json:"byTable" doc:"Whether they are the odds of the shipped table, since no message was sent yet with odds that were learnt."`
	Messages int64       `json:"messages" doc:"Messages to catch-all addresses of which it is known what became of them."`
	Arrived  int64       `json:"arrived" doc:"Of them, that arrived."`
	Promised float64     `json:"promised" doc:"How many of them were to arrive by the odds that were stated."`
	Stated   Score       `json:"stated" doc:"How good the odds that were stated were."`
	Table    Score       `json:"table" doc:"How good those of the shipped table would have been."`
	BaseRate Score       `json:"baseRate" doc:"How good one figure for all would have been: the share that arrived, known afterwards."`
	Tenths   []OddsTenth `json:"tenths" doc:"By tenths of the scale."`
	Says     string      `json:"says" doc:"The same in a sentence."`
}

// Score is how good odds are; of both figures the smaller is the better.
type Score struct {
	Brier   float64 `json:"brier" doc:"The mean of the squared differences between odds and outcomes, 0 to 1."`
	LogLoss float64 `json:"logLoss" doc:"The mean of the logarithms of what was given to the outcome that came, negated."`
}

// OddsTenth is a tenth of the scale of odds.
type OddsTenth struct {
	From     float64 `json:"from" doc:"Where it begins, 0 to 0.9."`
	Messages int64   `json:"messages" doc:"Messages whose odds lie in it."`
	Promised float64 `json:"promised" doc:"How many of them were to arrive by their odds."`
	Arrived  int64   `json:"arrived" doc:"How many arrived."`
}

// OddsFactor is something about an address that counts.
type OddsFactor struct {
	Code    string  `json:"code" doc:"Names it."`
	Says    string  `json:"says" doc:"What it is."`
	Weight  float64 `json:"weight" doc:"What it adds to the log odds where it is as strong as 1; below 0: it speaks against the mailbox."`
	Arrived int64   `json:"arrived" doc:"Messages to such addresses that arrived,"`
	Of      int64   `json:"of" doc:"of so many."`
}

// OddsDomain is a domain of which something was learnt.
type OddsDomain struct {
	Domain    string  `json:"domain" doc:"The domain."`
	Operator  string  `json:"operator" doc:"Who runs its exchangers; empty where that is not known."`
	Arrived   int64   `json:"arrived" doc:"Messages to its catch-all addresses that arrived,"`
	Of        int64   `json:"of" doc:"of so many."`
	Habit     string  `json:"habit,omitempty" doc:"How most of its known mailboxes are made of their names, in words; left out where few are known."`
	Fits      float64 `json:"fits,omitempty" doc:"The odds of an address there that is made so; left out where few are known."`
	Otherwise float64 `json:"otherwise,omitempty" doc:"The odds of an address there that is not made of the name in its row."`
}

// OddsVersion is what changed when it was learnt.
type OddsVersion struct {
	Version  int       `json:"version" doc:"Which time it was."`
	MadeAt   time.Time `json:"madeAt" doc:"When."`
	Messages int64     `json:"messages" doc:"The messages that it learnt from."`
	Changes  []string  `json:"changes" doc:"What changed, in sentences."`
}

// OddsSharing sets whether outcomes are shared.
type OddsSharing struct {
	Shares bool `json:"shares" doc:"Whether outcomes count for other workspaces, and theirs here, as counts of domains."`
}

// ColumnMeaning says what a column of a list holds.
type ColumnMeaning struct {
	Column string `json:"column" maxLength:"500" doc:"The name of the column."`
	Holds  string `json:"holds" enum:"first-name,last-name,name,activity,opinion" doc:"first-name, last-name or name (a whole one): the name of the person; activity: days on which something was seen of the address; opinion: what somebody else's check found."`
	Of     string `json:"of,omitempty" maxLength:"60" doc:"What was seen (opened, clicked, signed in, ordered …), or whose check it was."`
}

// ColumnMeanings are what the columns of a list hold.
type ColumnMeanings struct {
	Meanings []ColumnMeaning `json:"meanings" maxItems:"200" doc:"What columns hold; a column that is left out holds nothing of these."`
	Guessed  bool            `json:"guessed,omitempty" readOnly:"true" doc:"Whether they are told by the names of the columns, since nobody has said otherwise."`
}

package contract

import "time"

// ColumnProfile is what the cells of a column are like.
type ColumnProfile struct {
	Column   string       `json:"column" doc:"The column."`
	Rows     int64        `json:"rows" doc:"Rows of the list."`
	Empty    int64        `json:"empty" doc:"Rows whose cell is empty."`
	Distinct int64        `json:"distinct" doc:"Different values."`
	Exact    bool         `json:"exact" doc:"Whether these are all; otherwise there are more than are counted."`
	Shortest int          `json:"shortest" doc:"Characters of the shortest value."`
	Longest  int          `json:"longest" doc:"Characters of the longest."`
	Most     []ValueCount `json:"most" doc:"The commonest values, of those that come more than once."`
	Dates    int64        `json:"dates" doc:"Rows whose cell is a date."`
	Earliest *time.Time   `json:"earliest,omitempty" doc:"The earliest of them."`
	Latest   *time.Time   `json:"latest,omitempty" doc:"The latest."`
}

// ValueCount is how often a value stands in a column.
type ValueCount struct {
	Value string `json:"value" doc:"The value."`
	Rows  int64  `json:"rows" doc:"Rows that have it."`
}

// DomainStatistics is what the addresses of a list tell before any of them is verified.
type DomainStatistics struct {
	Addresses  int64         `json:"addresses" doc:"Different addresses of the list."`
	Domains    int64         `json:"domains" doc:"Their domains."`
	Largest    []DomainShare `json:"largest" doc:"The largest domains."`
	Operators  []DomainShare `json:"operators" doc:"The largest operators, as far as they are known by earlier runs."`
	Unknown    int64         `json:"unknown" doc:"Addresses whose operator is not known yet."`
	Traits     []DomainShare `json:"traits" doc:"Addresses by what their domain is: free-mail, disposable, a trap, a likely typing error."`
	Countries  []DomainShare `json:"countries" doc:"Addresses by the country or kind of their domain's suffix."`
	Suspicious []DomainShare `json:"suspicious" doc:"Domains that are disposable, traps or likely typing errors, the largest first."`
	Says       string        `json:"says" doc:"The same in sentences."`
}

// DomainShare is how many addresses belong to something.
type DomainShare struct {
	Name      string   `json:"name" doc:"The domain, operator, trait or suffix."`
	Title     string   `json:"title,omitempty" doc:"What it is called, where that is something else."`
	Addresses int64    `json:"addresses" doc:"Addresses that belong to it."`
	Domains   int64    `json:"domains" doc:"Domains that do."`
	Traits    []string `json:"traits,omitempty" doc:"What a domain is like."`
	Meant     string   `json:"meant,omitempty" doc:"The domain that may have been meant."`
}

// KnownResults is what earlier runs of the workspace found of the addresses of a list.
type KnownResults struct {
	Addresses int64        `json:"addresses" doc:"Different addresses of the list."`
	Known     int64        `json:"known" doc:"Those of which something is known."`
	Findings  []KnownCount `json:"findings" doc:"What is known, by finding."`
	Says      string       `json:"says" doc:"The same in a sentence."`
}

// KnownCount is how many addresses are known to be of a finding, by age.
type KnownCount struct {
	Finding   string    `json:"finding" doc:"The finding."`
	Addresses int64     `json:"addresses" doc:"Addresses with it."`
	Week      int64     `json:"week" doc:"Those checked within the last 7 days."`
	Month     int64     `json:"month" doc:"Those checked 8 to 30 days ago."`
	Quarter   int64     `json:"quarter" doc:"Those checked 31 to 90 days ago."`
	Older     int64     `json:"older" doc:"Those checked longer ago."`
	Oldest    time.Time `json:"oldest" doc:"When the oldest of them was checked."`
}

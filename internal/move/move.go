// Package move writes a workspace to a zip and reads it into another installation.
//
// The zip is for people and for programs: its lists, and their results, are files that every
// spreadsheet opens; beside them stands every record of the workspace, by which it comes to the
// other installation as it was, with the same numbers. Secrets do not move, nor does what belongs
// to the installation: accounts of people, keys, the book of allowances.
package move

import (
	"time"

	"varnet/core/finding"
	"varnet/internal/contract"
)

// form names the form of the zip and its version.
const form = "Varnet workspace 1"

// Head says what a zip is of; it is its file workspace.json.
type Head struct {
	Form    string    `json:"form"`
	Release string    `json:"release"`
	Schema  int64     `json:"schema"`
	At      time.Time `json:"at"` // the moment that it holds

	Name          string    `json:"name"`
	CreatedAt     time.Time `json:"createdAt"`
	KeepDays      *int      `json:"keepDays"`
	SecondFactor  bool      `json:"secondFactor"`
	ReadersExport bool      `json:"readersExport"`
	ShareOutcomes bool      `json:"shareOutcomes"`
	Rules         any       `json:"rules"`
	// ErasedKey is the secret of the fingerprints by which addresses are known that were erased.
	ErasedKey string            `json:"erasedKey,omitempty"`
	Members   []contract.Member `json:"members"`
	// Lists, Runs and Records count what is in it.
	Lists   int64            `json:"lists"`
	Records map[string]int64 `json:"records"` // by table
}

// verdict is one of the verdicts that results point to.
type verdict struct {
	ID      int32           `json:"id"`
	Finding finding.Finding `json:"finding"`
	Cause   finding.Cause   `json:"cause"`
	Traits  finding.Traits  `json:"traits"`
	Odds    float64         `json:"odds"`
}

// The files of the zip.
const (
	headFile       = "workspace.json"
	readmeFile     = "README.txt"
	verdictsFile   = "records/verdicts.jsonl"
	rememberedFile = "records/remembered.jsonl"
)

func recordsFile(table string) string { return "records/" + table + ".jsonl" }

const readme = `This is a workspace of Varnet, as it was at one moment.

workspace.json   what the workspace is called and set to, and who is in it
lists/           each list as it was imported, byte for byte (spreadsheets as CSV); beside it a file
                 for each of its runs: the same rows, with finding, cause and decision in columns
audit.jsonl      the audit trail: who did what, when, from where
records/         everything once more, record by record, for another installation:
                 varnet team import FILE -owner ADDRESS

Secrets are not in it: whoever reads it in enters the credentials of connections again. Keys,
webhooks, links, sources of bounces and accounts of people stay where they were, and so does the
book of allowances.
records/remembered.jsonl is what is remembered of addresses apart from lists, of those that are in
a list or a mailing; of others only a fingerprint is kept, which is good for nothing elsewhere.
`

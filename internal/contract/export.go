package contract

import (
	"time"

	"fmt"
	"math"
	"strings"

	"varnet/core/finding"
	"varnet/core/policy"
)

// Filter chooses results: those that match all that it names.
type Filter struct {
	Finding   string  `query:"finding" doc:"Only this finding."`
	Cause     string  `query:"cause" doc:"Only this cause."`
	Stage     string  `query:"stage" doc:"Only causes of this stage."`
	Trait     string  `query:"trait" doc:"Only with this trait."`
	OddsFrom  float64 `query:"oddsFrom" minimum:"0" maximum:"1" doc:"Only with at least these odds."`
	OddsBelow float64 `query:"oddsBelow" minimum:"0" maximum:"1" doc:"Only with odds below this; 0: any."`
	Domain    string  `query:"domain" maxLength:"254" doc:"Only addresses at this domain."`
	Operator  string  `query:"operator" maxLength:"254" doc:"Only addresses whose exchangers this operator runs."`
	Search    string  `query:"search" maxLength:"200" doc:"Only addresses with this text in them."`
}

// Fits reports whether a verdict matches as far as the filter looks at verdicts.
func (f Filter) Fits(v finding.Verdict) bool {
	return (f.Finding == "" || f.Finding == string(v.Finding)) &&
		(f.Cause == "" || f.Cause == string(v.Cause)) &&
		(f.Stage == "" || f.Stage == string(v.Cause.Stage())) &&
		(f.Trait == "" || v.Traits.Has(finding.Trait(f.Trait))) &&
		v.Odds >= f.OddsFrom && (f.OddsBelow == 0 || v.Odds < f.OddsBelow)
}

// AnyVerdict tells a filter that does not look at verdicts.
func (f Filter) AnyVerdict() bool {
	return f.Finding == "" && f.Cause == "" && f.Stage == "" && f.Trait == "" && f.OddsFrom == 0 && f.OddsBelow == 0
}

// Says says the filter in words, "" for none.
func (f Filter) Says() string {
	var words []string
	add := func(format, value string) {
		if value != "" {
			words = append(words, strings.ReplaceAll(format, "%", value))
		}
	}
	add("with the finding %", f.Finding)
	if info, ok := finding.Lookup(finding.Cause(f.Cause)); ok {
		add("with the cause “%”", info.Title)
	}
	add("concluded at the stage %", f.Stage)
	add("with the trait %", f.Trait)
	if f.OddsFrom > 0 {
		add("with odds of % in 100 or more", fmt.Sprint(math.Round(f.OddsFrom*100)))
	}
	if f.OddsBelow > 0 {
		add("with odds under % in 100", fmt.Sprint(math.Round(f.OddsBelow*100)))
	}
	add("at %", f.Domain)
	add("whose mail hosts are run by %", f.Operator)
	add("with “%” in the address", f.Search)
	return strings.Join(words, ", ")
}

// FilterSentence is a filter in words.
type FilterSentence struct {
	Sentence string `json:"sentence" doc:"What the filter chooses."`
}

// ExportChoice is which rows are exported, and how. Its zero value is the kept
// rows as they were brought.
type ExportChoice struct {
	Decision   string   `query:"decision" enum:"keep,hold,drop,all" default:"keep" doc:"Which rows to export."`
	Form       string   `query:"form" enum:"rows,results,addresses,suppression" default:"rows" doc:"rows: as they were imported; results: with result columns; addresses: nothing else; suppression: address and reason."`
	Format     string   `query:"format" enum:"original,spreadsheet,xlsx,ods,jsonl,txt" default:"original" doc:"original: byte for byte as the file was; spreadsheet: CSV that opens in columns; txt: one address per line."`
	Columns    []string `query:"columns" doc:"The result columns of the form results; finding, cause and decision unless given."`
	After      int      `query:"after" minimum:"0" maximum:"10000" doc:"The column after which the result columns stand, from 1; 0: right after the address column."`
	Semicolons bool     `query:"semicolons" doc:"For spreadsheets of a locale with decimal commas."`
	Policy     string   `query:"policy" maxLength:"40" doc:"Decide by another policy than the run's; nobody is asked again."`
	Guard      bool     `query:"guard" doc:"Make your own cells harmless that a spreadsheet would run as formulas. Result columns always are."`
	Apart      string   `query:"apart" enum:"decision,finding" doc:"One file for each decision or finding, in a zip with a README."`
	RowsEach   int      `query:"rowsEach" minimum:"0" maximum:"10000000" doc:"Split into files of at most this many rows, in a zip; 0: one file."`
	Every      int      `query:"every" minimum:"0" maximum:"1000000" doc:"Only every nth of the rows."`
	Sample     int      `query:"sample" minimum:"0" maximum:"10000000" doc:"Only a random sample of this many of the rows, the same each time."`
	// Ordinals are chosen beside the filter.
	Ordinals []int32 `query:"ordinals" maxItems:"1000" doc:"Only the rows with these addresses, by the ordinals of their results."`
	Filter
}

// Chooses reports whether only some rows are chosen, whatever their decision.
func (t ExportChoice) Chooses() bool { return t.Filter != (Filter{}) || len(t.Ordinals) > 0 }

// ExportPreview is what a file would hold, said before it is made.
type ExportPreview struct {
	Decision policy.Decision `json:"decision" enum:"keep,hold,drop,all" doc:"The decision of the rows, or all."`
	Rows     int64           `json:"rows" doc:"Rows in the file."`
	FileName string          `json:"fileName" doc:"The name of the file."`
	Sentence string          `json:"sentence" doc:"The same in words."`
	Counts   []Count         `json:"counts" doc:"All rows by decision and reason."`
	Columns  []ResultColumn  `json:"columns" doc:"The result columns that can be chosen."`
	// Formulas counts rows of the list, not of the file.
	Formulas int64      `json:"formulas" doc:"Rows of the list with a cell of your own that a spreadsheet would run as a formula."`
	Titles   []string   `json:"titles" doc:"The names of the columns of the file."`
	First    [][]string `json:"first" doc:"The cells of the first rows of the file."`
}

// ResultColumn is a column of results.
type ResultColumn struct {
	Name  string `json:"name" doc:"The name of the column."`
	Title string `json:"title" doc:"What it is called in a file."`
	Usual bool   `json:"usual" doc:"Whether it is given unless others are chosen."`
}

// KnownPolicy is a policy as it is read.
type KnownPolicy struct {
	Policy
	Ready bool     `json:"ready" doc:"Whether it is a ready-made one, which cannot be changed."`
	Says  []string `json:"says" doc:"What it decides, in order; what matches first decides."`
}

// Trial is what a policy would do with the rows of a run.
type Trial struct {
	Says     []string `json:"says" doc:"What it decides, in order; what matches first decides."`
	Sentence string   `json:"sentence" doc:"The same in words."`
	Counts   []Count  `json:"counts" doc:"All rows by decision and reason."`
	// Rules are in the order of the policy's, and one more.
	Rules []Count `json:"rules" doc:"How many rows each rule decides on; the last is of those that no rule matches."`
}

// PolicyChoice names the policy that is to decide.
type PolicyChoice struct {
	Name string `json:"name" maxLength:"40" doc:"The name of a ready-made policy or of one of your own, as it stands now."`
}

// NewLink is a link to be made, from which a tool fetches a file of a run.
type NewLink struct {
	Decision string `json:"decision" enum:"keep,hold,drop,all" doc:"Which rows the file has."`
	Form     string `json:"form,omitempty" enum:"rows,results,addresses,suppression" default:"rows" doc:"Its form, as for an export."`
	Format   string `json:"format,omitempty" enum:"original,spreadsheet,xlsx,ods,jsonl,txt" default:"original" doc:"Its format, as for an export."`
	Days     int    `json:"days" minimum:"1" maximum:"90" doc:"For how many days it works."`
}

// Link is a URL from which a tool fetches a file of a run, until it expires.
type Link struct {
	ID        int64      `json:"id" doc:"Names the link."`
	RunID     int64      `json:"runId" doc:"The run."`
	Decision  string     `json:"decision" doc:"Which rows the file has."`
	Form      string     `json:"form" doc:"Its form."`
	Format    string     `json:"format" doc:"Its format."`
	Path      string     `json:"path,omitempty" doc:"The path of the URL at this service, shown only when it is made. Whoever has it needs no key."`
	By        string     `json:"by" doc:"Who made it."`
	ExpiresAt time.Time  `json:"expiresAt" doc:"When it expires."`
	Fetched   int        `json:"fetched" doc:"How often it was followed."`
	FetchedAt *time.Time `json:"fetchedAt,omitempty" doc:"When it was last."`
}

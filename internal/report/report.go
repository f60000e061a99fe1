// Package report makes the one-page report of a run, as a PDF page and as an
// HTML page that needs nothing else, both from the same content.
//
//	r := report.Report{...}
//	err := r.HTML(out) // or r.PDF(out)
package report

import (
	"fmt"
	"math"
	"strings"
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
)

// Report is what the page says. Times are shown in the zone they are given in.
type Report struct {
	List, File string
	Run        int64
	Began      time.Time
	Ended      time.Time // zero while the run goes on
	Made       time.Time
	Depth      string
	Policy     string // its name, and the version of one's own
	// Addresses is the whole of every share; Open of them have no result yet.
	Addresses, Open int64
	// Read, Kept and Work are sentences: about the list, about what will be
	// kept, about what was asked and how long it took.
	Read, Kept string
	Work       []string
	// Causes are those that occur, in the order of the stages.
	Causes    []Cause
	Decisions []policy.Count
	Says      []string // the policy in sentences
	Domains   []Place
	Operators []Place
	// Changes are sentences about what changed since the run before.
	Changes []string
}

// Cause is a finding with a cause, in the words of the registry.
type Cause struct {
	Finding   finding.Finding
	Code      finding.Cause
	Stage     finding.Stage
	Title     string
	Meaning   string
	Addresses int64
}

// Place is a domain or an operator.
type Place struct {
	Name        string
	Addresses   int64
	Deliverable int64
}

// Decision is what the default policy does with a finding; it returns the tone
// and the mark of what is drawn.
func (c Cause) Decision() policy.Decision { return tone(c.Finding) }

func tone(f finding.Finding) policy.Decision {
	return policy.Careful().Decide(policy.Row{Verdict: finding.Verdict{Finding: f}}).Decision
}

// Headline says which run this is.
func (r Report) Headline() string {
	s := fmt.Sprintf("Run %d, begun %s", r.Run, moment(r.Began))
	if r.Ended.IsZero() {
		return s + fmt.Sprintf("; not at its end on %s", moment(r.Made))
	}
	return s + ", ended " + moment(r.Ended)
}

// Foot says by what it was decided and when this was written.
func (r Report) Foot() string {
	return fmt.Sprintf("File %s. Depth: %s. Policy: %s. Written by Varnet on %s.", r.File, r.Depth, r.Policy, moment(r.Made))
}

func moment(t time.Time) string { return t.Format("2 January 2006, 15:04 MST") }

// Share says a share with its whole.
func Share(part, whole int64) string {
	if whole == 0 {
		return "0 of 0"
	}
	percent := 100 * float64(part) / float64(whole)
	shown := fmt.Sprintf("%.0f %%", math.Round(percent))
	switch {
	case part > 0 && percent < 1:
		shown = "under 1 %"
	case part < whole && percent > 99:
		shown = "over 99 %"
	}
	return shown + " of " + say.Number(whole)
}

// Says says of how many of a place's addresses are deliverable.
func (p Place) Says() string {
	return fmt.Sprintf("%s of %s deliverable", say.Number(p.Deliverable), say.Number(p.Addresses))
}

// lower makes a title part of a sentence.
func lower(title string) string { return strings.ToLower(title[:1]) + title[1:] }

// Package opinion holds what other checks found, in columns of a list, beside what a run of it found, and
// both against outcomes.
package opinion

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"varnet/core/address"
	"varnet/core/bounce"
	"varnet/core/finding"
	"varnet/core/opinion"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/store"
)

// Desk compares checks.
type Desk struct{ Store *store.Store }

// mostWords is how many words of a check are told, and beyond which a column holds no results.
const mostWords = 100

// check is one other check, counted.
type check struct {
	decide.Opinion
	words  map[string]int64
	open   int64
	matrix opinion.Matrix
	judged opinion.Judged
}

// outcome is what became of the last message to an address, and what had been found of it then.
type outcome struct {
	arrived bool
	said    finding.Finding
}

// Look compares all checks of a list with its last run.
func (d *Desk) Look(ctx context.Context, l store.List) (out contract.Opinions, err error) {
	run, verdicts, checks, err := d.begin(ctx, l)
	if err != nil {
		return out, err
	}
	out.RunID, out.Checks = run.ID, []contract.OpinionCheck{}
	outcomes, err := d.outcomes(ctx, l, verdicts)
	if err != nil {
		return out, err
	}
	canonicals, err := d.sent(ctx, l, outcomes)
	if err != nil {
		return out, err
	}
	var ours opinion.Judged
	kept := l.Dialect.Kept()
	err = d.Store.EachRow(ctx, run, l, store.OutWith{}, func(r *store.OutRow) error {
		at := first(r)
		if at == nil {
			return nil
		}
		found := verdicts[at.Verdict].Finding
		o, known := canonicals[at.Ordinal]
		if known {
			ours.Judge(o.said, o.arrived)
		}
		for _, c := range checks {
			cell := kept.Cell(r.Raw, c.Column)
			word := opinion.Word(cell)
			if len(c.words) <= mostWords || c.words[word] > 0 {
				c.words[word]++
			}
			theirs, said := c.Means.Of(cell)
			if !said && word != "" {
				c.open++
			}
			c.matrix.Add(theirs, found, 1)
			if known {
				c.judged.Judge(theirs, o.arrived)
			}
		}
		return nil
	})
	for _, c := range checks {
		out.Checks = append(out.Checks, c.body(l))
	}
	out.Ours = judgedBody(ours, "Varnet")
	out.Says = saysOf(out)
	return out, err
}

// begin reads what both comparisons need: the last run of the list, if there is any, and its checks.
func (d *Desk) begin(ctx context.Context, l store.List) (run store.Run, verdicts map[int32]finding.Verdict, checks []*check, err error) {
	runs, err := d.Store.LastRuns(ctx, l.WorkspaceID, []int64{l.ID})
	if err != nil {
		return run, nil, nil, err
	}
	if last, ok := runs[l.ID]; ok {
		run = last
	}
	means, err := d.Store.OpinionMeans(ctx, l.WorkspaceID)
	if err != nil {
		return run, nil, nil, err
	}
	for _, o := range decide.Opinions(l, means) {
		checks = append(checks, &check{Opinion: o, words: map[string]int64{}, matrix: opinion.Matrix{}})
	}
	verdicts, err = d.Store.Verdicts(ctx)
	return run, verdicts, checks, err
}

// first is the first filled address cell of a row, where its address does not stand in an earlier row.
func first(r *store.OutRow) *store.OutCell {
	for i := range r.Cells {
		c := &r.Cells[i]
		if c.Address != 0 {
			if c.Address != c.Ordinal {
				return nil
			}
			return c
		}
	}
	return nil
}

// outcomes are what became of the last messages to addresses of the list, by their canonical form.
func (d *Desk) outcomes(ctx context.Context, l store.List, verdicts map[int32]finding.Verdict) (map[string]outcome, error) {
	out := map[string]outcome{}
	err := d.Store.OutcomesOfList(ctx, l.WorkspaceID, l.ID, func(m store.Mailed) {
		if arrived, sure := (bounce.Known{Outcome: m.Outcome, Permanent: m.Permanent}).Arrived(); sure {
			out[m.Canonical] = outcome{arrived, verdicts[m.Said].Finding}
		}
	})
	return out, err
}

// sent are the outcomes by the ordinals of the list.
func (d *Desk) sent(ctx context.Context, l store.List, outcomes map[string]outcome) (map[int32]outcome, error) {
	out := make(map[int32]outcome, len(outcomes))
	if len(outcomes) == 0 {
		return out, nil
	}
	err := d.Store.EachMailbox(ctx, l.ID, func(ordinal int32, local, domain string) error {
		if o, ok := outcomes[address.CanonicalOf(local, domain)]; ok {
			out[ordinal] = o
		}
		return nil
	})
	return out, err
}

func (c *check) body(l store.List) contract.OpinionCheck {
	b := contract.OpinionCheck{Name: c.Name, Column: l.Columns[c.Column], Open: c.open, Words: []contract.OpinionWord{}, Matrix: []contract.OpinionCell{}, Says: c.matrix.Sentence(c.Name), Judged: judgedBody(c.judged, c.Name)}
	for _, w := range slices.SortedFunc(maps.Keys(c.words), func(a, b string) int { return cmp.Or(cmp.Compare(c.words[b], c.words[a]), cmp.Compare(a, b)) }) {
		if w == "" || len(b.Words) == mostWords {
			continue
		}
		f, known := c.Means[w]
		if !known {
			f, _ = opinion.Guess(w)
		}
		b.Words = append(b.Words, contract.OpinionWord{Word: w, Rows: c.words[w], Known: known, Means: string(f)})
	}
	found := append(finding.Findings(), "")
	for _, theirs := range found {
		for _, ours := range found {
			if n := c.matrix[[2]finding.Finding{theirs, ours}]; n > 0 {
				b.Matrix = append(b.Matrix, contract.OpinionCell{Theirs: theirs, Ours: ours, Rows: n})
			}
		}
	}
	switch {
	case len(c.words) > mostWords:
		b.Says = fmt.Sprintf("The column %q holds more than %d different words: it is none of results.", b.Column, mostWords)
	case c.open > 0:
		b.Says = fmt.Sprintf("%s of %s have words that are not mapped yet.", say.Number(c.open), say.Rows(l.Rows)) + " " + b.Says
	}
	return b
}

func judgedBody(j opinion.Judged, name string) contract.OpinionJudged {
	return contract.OpinionJudged{GoodArrived: j.GoodArrived, GoodBounced: j.GoodBounced, BadArrived: j.BadArrived, BadBounced: j.BadBounced, Says: j.Sentence(name)}
}

func saysOf(o contract.Opinions) string {
	switch {
	case len(o.Checks) == 0:
		return "No column of the list holds what another check found. Say which one does, and whose check it is."
	case o.RunID == 0:
		return "The list was not run yet: there is nothing to compare with."
	}
	var parts []string
	for _, c := range o.Checks {
		parts = append(parts, c.Says)
	}
	return strings.Join(parts, " ")
}

// fits reports whether findings of both are those that a query asks for.
func fits(q contract.OpinionFilter, theirs, ours finding.Finding) bool {
	is := func(wanted string, f finding.Finding) bool {
		return wanted == "" || wanted == string(f) || wanted == "none" && f == ""
	}
	switch {
	case !is(q.Theirs, theirs) || !is(q.Ours, ours):
		return false
	case q.Apart == "contradict":
		return opinion.Contradicts(theirs, ours)
	case q.Apart == "differ":
		return opinion.Differs(theirs, ours)
	}
	return true
}

// Rows returns rows of a list by what a check and its last run found, after an ordinal. There is none for
// a check that the list has not.
func (d *Desk) Rows(ctx context.Context, l store.List, q contract.OpinionFilter, after int32, limit int) (rows []contract.OpinionRow, err error) {
	run, verdicts, checks, err := d.begin(ctx, l)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(checks, func(c *check) bool { return strings.EqualFold(c.Name, q.Check) })
	if at < 0 {
		return nil, store.ErrNotFound
	}
	kept := l.Dialect.Kept()
	err = d.Store.EachRow(ctx, run, l, store.OutWith{}, func(r *store.OutRow) error {
		c := first(r)
		if c == nil || c.Ordinal <= after {
			return nil
		}
		if len(rows) == limit {
			return store.ErrEnough
		}
		cell := kept.Cell(r.Raw, checks[at].Column)
		theirs, _ := checks[at].Means.Of(cell)
		if fits(q, theirs, verdicts[c.Verdict].Finding) {
			v := verdicts[c.Verdict]
			info, _ := finding.Lookup(v.Cause)
			slot := int(c.Ordinal - r.Cells[0].Ordinal)
			rows = append(rows, contract.OpinionRow{Ordinal: c.Ordinal, Typed: kept.Cell(r.Raw, l.AddressColumns[slot]), Word: opinion.Word(cell), Theirs: theirs, Ours: v.Finding, Title: info.Title, Odds: v.Odds})
		}
		return nil
	})
	return rows, err
}

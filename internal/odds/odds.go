// Package odds has workspaces learn from what became of their mailings how likely a message to
// a catch-all address arrives (core/odds), and states the odds of the results of their runs anew
// by it.
package odds

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/core/naming"
	"varnet/core/odds"
	"varnet/internal/store"
)

// Odds learns and states odds.
type Odds struct {
	Store *store.Store
	Now   func() time.Time

	mu    sync.Mutex
	known map[int64]store.OddsModel // by workspace
}

// mostKnown is of how many workspaces it is remembered what they have learnt.
const mostKnown = 50

// model returns what a workspace learnt last; nil where nothing was.
func (o *Odds) model(ctx context.Context, workspace int64) (*odds.Model, error) {
	version, err := o.Store.OddsVersion(ctx, workspace, time.Time{})
	if err != nil || version == 0 {
		return nil, err
	}
	o.mu.Lock()
	m := o.known[workspace]
	o.mu.Unlock()
	if m.Version == version {
		return m.Model, nil
	}
	if m, err = o.Store.OddsModel(ctx, workspace); err != nil {
		return nil, err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.known == nil || len(o.known) >= mostKnown {
		o.known = map[int64]store.OddsModel{}
	}
	o.known[workspace] = m
	return m.Model, nil
}

// Prior is what the shipped table says of a catch-all address without traits.
var Prior = finding.Odds(finding.CatchAll, finding.MailboxAnyAccepted, nil)

// stated reports whether the odds of a result are stated by what was learnt: those of catch-all
// addresses that no message told anything of.
func stated(v finding.Verdict) bool { return v.Cause == finding.MailboxAnyAccepted }

// Score returns the results of a run that have other odds by what its workspace has learnt. How the
// addresses of its domains are made is kept with it, by which Explain tells the same.
func (o *Odds) Score(ctx context.Context, run store.Run, l store.List) ([]store.Concluded, error) {
	m, err := o.model(ctx, run.WorkspaceID)
	if err != nil || m == nil {
		return nil, err
	}
	people, err := o.read(ctx, run, l)
	if err != nil {
		return nil, err
	}
	if len(people.addresses) == 0 {
		return nil, nil
	}
	habits := people.habits()
	known, err := o.Store.KnownMailboxes(ctx, run.WorkspaceID, slices.Collect(maps.Keys(habits)))
	if err != nil {
		return nil, err
	}
	if err := o.Store.SetHabits(ctx, run, habits); err != nil {
		return nil, err
	}
	var out []store.Concluded
	type same struct {
		domain  int32
		verdict int32
		odds.Facts
	}
	reckoned := map[same]float64{}
	for _, a := range people.addresses {
		v := people.verdicts[a.verdict]
		if !stated(v) {
			continue
		}
		key := same{a.domain, a.verdict, a.Facts}
		p, ok := reckoned[key]
		if !ok {
			d := &people.domains[a.domain]
			p, _ = m.Odds(odds.Evidence{Domain: d.name, Operator: d.operator, Prior: prior(v), Facts: a.Facts, Known: known[d.name], List: d.habits})
			p = rounded(p)
			reckoned[key] = p
		}
		if p != v.Odds {
			was := a.verdict
			v.Odds = p
			out = append(out, store.Concluded{Address: a.ordinal, Verdict: v, Was: was})
		}
	}
	return out, o.Store.KnowVerdicts(ctx, out)
}

// prior is what the shipped table says of a verdict.
func prior(v finding.Verdict) float64 { return finding.Odds(v.Finding, v.Cause, v.Traits) }

// rounded are odds as results have them: in steps of 0.01, and never certain.
func rounded(p float64) float64 { return min(max(math.Round(p*100)/100, 0.01), 0.99) }

// Restate states the odds of a run that is finished anew.
func (o *Odds) Restate(ctx context.Context, run store.Run, l store.List) error {
	results, err := o.Score(ctx, run, l)
	if err != nil {
		return err
	}
	for from := 0; from < len(results); from += restatedAtOnce {
		some := results[from:min(from+restatedAtOnce, len(results))]
		if err := o.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error { return s.Restate(ctx, run.ID, some) }); err != nil {
			return err
		}
	}
	return nil
}

// restatedAtOnce is how many results are one batch.
const restatedAtOnce = 50_000

// Explain returns what the odds of a result were made of; their product is the odds.
func (o *Odds) Explain(ctx context.Context, run store.Run, l store.List, address int32, v finding.Verdict) ([]finding.Factor, error) {
	factors := finding.Factors(v.Finding, v.Cause, v.Traits)
	if !stated(v) {
		return factors, nil
	}
	m, err := o.model(ctx, run.WorkspaceID)
	if err != nil || m == nil {
		return settled(factors, v.Odds), err
	}
	e, err := o.evidence(ctx, run, l, address, v)
	if err != nil {
		return nil, err
	}
	_, more := m.Odds(e)
	return settled(append(factors, more...), v.Odds), nil
}

// settled sees to it that the product of the factors is the odds that were stated: they may rest on
// what was known then.
func settled(factors []finding.Factor, odds float64) []finding.Factor {
	p := 1.0
	for _, f := range factors {
		p *= f.Times
	}
	if p == 0 || math.Abs(rounded(p)-odds) < 0.005 {
		return factors
	}
	return append(factors, finding.Factor{What: "outcomes known at the time", Times: odds / p, Basis: fmt.Sprintf("stated as %.0f in 100", 100*odds)})
}

// evidence gathers what is known of an address of a list.
func (o *Odds) evidence(ctx context.Context, run store.Run, l store.List, address int32, v finding.Verdict) (e odds.Evidence, err error) {
	rows, err := o.Store.RowsOf(ctx, run, l, []int32{address})
	if err != nil || rows[address] == nil {
		return e, err
	}
	cell := rows[address].Cell(address)
	e = odds.Evidence{Domain: cell.Domain, Operator: cell.Operator, Prior: prior(v)}
	e.Facts, _ = newReader(l).facts(rows[address], cell, v)
	habits, err := o.Store.Habits(ctx, run.WorkspaceID, run.ID, cell.Domain)
	if err != nil {
		return e, err
	}
	for _, h := range habits {
		e.List = &h.Neighbours
	}
	e.Known, err = o.mailboxes(ctx, run.WorkspaceID, cell.Domain)
	return e, err
}

func (o *Odds) mailboxes(ctx context.Context, workspace int64, domain string) (*odds.Neighbours, error) {
	known, err := o.Store.KnownMailboxes(ctx, workspace, []string{domain})
	return known[domain], err
}

// Single states the odds of one address, of which nothing is known but itself, and what they were made
// of.
func (o *Odds) Single(ctx context.Context, workspace int64, mailbox, operator string, v finding.Verdict) (finding.Verdict, []finding.Factor, error) {
	factors := finding.Factors(v.Finding, v.Cause, v.Traits)
	if !stated(v) {
		return v, factors, nil
	}
	m, err := o.model(ctx, workspace)
	if err != nil || m == nil {
		return v, factors, err
	}
	e := odds.Evidence{Domain: mailbox[strings.LastIndexByte(mailbox, '@')+1:], Operator: operator, Prior: prior(v), Facts: odds.FactsOf(localOf(mailbox), naming.Name{}, v.Traits)}
	if e.Known, err = o.mailboxes(ctx, workspace, e.Domain); err != nil {
		return v, factors, err
	}
	p, more := m.Odds(e)
	v.Odds = rounded(p)
	return v, append(factors, more...), nil
}

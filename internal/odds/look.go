package odds

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"

	"varnet/core/naming"
	"varnet/core/odds"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// How much of what was learnt is shown.
const (
	versionsShown = 20
	domainsShown  = 50
)

// Look returns what a workspace has learnt, and how good it was.
func (o *Odds) Look(ctx context.Context, workspace int64) (out contract.Odds, err error) {
	if out.Shares, err = o.Store.SharesOutcomes(ctx, workspace); err != nil {
		return out, err
	}
	if out.Judged, err = o.judged(ctx, workspace); err != nil {
		return out, err
	}
	versions, err := o.Store.OddsModels(ctx, workspace, versionsShown)
	if err != nil {
		return out, err
	}
	out.History = contract.Each(versions, func(m store.OddsModel) contract.OddsVersion {
		return contract.OddsVersion{Version: m.Version, MadeAt: m.MadeAt, Messages: m.Messages, Changes: m.Changes}
	})
	out.Factors, out.Domains = []contract.OddsFactor{}, []contract.OddsDomain{}
	if len(versions) == 0 {
		out.Says = fmt.Sprintf("Nothing is learnt yet: a catch-all address has the %.0f in 100 of the shipped table. Register a mailing and import what comes back; once its watch is over, its outcomes are learnt from.", 100*Prior)
		return out, nil
	}
	last := versions[0]
	out.Version, out.MadeAt, out.Messages = last.Version, &last.MadeAt, last.Messages
	m, err := o.model(ctx, workspace)
	if err != nil || m == nil {
		return out, err
	}
	seen := m.Usual.Seen
	out.Says = fmt.Sprintf("Learnt from %s to catch-all addresses, of which %s arrived.", say.Plural(last.Messages, "message", "messages"), count(seen.Arrived))
	out.Factors = factorsBody(m)
	known, err := o.Store.KnownMailboxes(ctx, workspace, nil)
	out.Domains = domainsBody(m, known)
	return out, err
}

func count(n float64) string { return say.Number(int64(math.Round(n))) }

// judged holds the odds that were stated against what became of the messages.
func (o *Odds) judged(ctx context.Context, workspace int64) (contract.JudgedOdds, error) {
	var learnt, byTable judging
	err := o.Store.Observations(ctx, workspace, most, func(ob store.Observation) {
		if ob.Version > 0 {
			learnt.add(ob)
		} else {
			byTable.add(ob)
		}
	})
	if learnt.stated.Messages == 0 {
		b := byTable.body()
		b.ByTable = true
		return b, err
	}
	return learnt.body(), err
}

// judging are odds that were stated, and those of the table, on the same messages.
type judging struct{ stated, table odds.Judged }

func (j *judging) add(ob store.Observation) {
	j.stated.Judge(ob.Said, ob.Arrived)
	j.table.Judge(ob.Prior, ob.Arrived)
}

func (j *judging) body() contract.JudgedOdds {
	b := contract.JudgedOdds{Messages: int64(j.stated.Messages), Stated: contract.Score{Brier: j.stated.Brier, LogLoss: j.stated.LogLoss}, Table: contract.Score{Brier: j.table.Brier, LogLoss: j.table.LogLoss},
		Tenths: make([]contract.OddsTenth, 0, len(j.stated.Tenths))}
	for i, t := range j.stated.Tenths {
		b.Arrived += int64(t.Arrived)
		b.Promised += t.Promised
		b.Tenths = append(b.Tenths, contract.OddsTenth{From: float64(i) / 10, Messages: int64(t.Messages), Promised: t.Promised, Arrived: int64(t.Arrived)})
	}
	base := odds.BaseRate(int(b.Arrived), int(b.Messages))
	b.BaseRate = contract.Score{Brier: base.Brier, LogLoss: base.LogLoss}
	b.Says = "No message to a catch-all address is known to have arrived or bounced."
	if b.Messages > 0 {
		b.Says = fmt.Sprintf("Of %s to catch-all addresses, %s were to arrive by their odds, and %s did.", say.Plural(b.Messages, "message", "messages"), count(b.Promised), say.Number(b.Arrived))
	}
	return b
}

// says are the words for each feature, of addresses in general.
var says = map[odds.Feature]string{
	odds.FitsKnown:      "fits the naming habit of the mailboxes known at its domain",
	odds.UnlikeKnown:    "built differently from the mailboxes known at its domain",
	odds.FitsList:       "fits the naming habit of the other addresses of its domain in the list",
	odds.UnlikeList:     "built differently from the other addresses of its domain in the list",
	odds.LooksLikeKnown: "looks like the mailboxes known at its domain",
	odds.LooksOffKnown:  "looks unlike the mailboxes known at its domain",
	odds.LooksLikeList:  "looks like the other addresses of its domain in the list",
	odds.LooksOffList:   "looks unlike the other addresses of its domain in the list",
	odds.NotItsName:     "not built from the name in its row, at a domain of which little is known",
	odds.Role:           "a task and not a person",
	odds.Random:         "looks random",
}

func factorsBody(m *odds.Model) []contract.OddsFactor {
	out := []contract.OddsFactor{}
	for _, f := range odds.Features {
		if seen := m.Seen[f]; seen.Of > 0 {
			out = append(out, contract.OddsFactor{Code: string(f), Says: says[f], Weight: m.Weights[f], Arrived: int64(math.Round(seen.Arrived)), Of: int64(math.Round(seen.Of))})
		}
	}
	return out
}

func domainsBody(m *odds.Model, known map[string]*odds.Neighbours) []contract.OddsDomain {
	out := []contract.OddsDomain{}
	for _, name := range slices.Sorted(maps.Keys(m.Domains)) {
		e := m.Domains[name]
		d := contract.OddsDomain{Domain: name, Operator: e.Operator, Arrived: int64(math.Round(e.Seen.Arrived)), Of: int64(math.Round(e.Seen.Of))}
		if most, n, of := known[name].Most(); of >= habitFrom {
			d.Habit = habitSays(most, n, of)
			d.Fits = oddsAt(m, name, e.Operator, known[name], most)
			if most != "" {
				d.Otherwise = oddsAt(m, name, e.Operator, known[name], "")
			}
		}
		out = append(out, d)
	}
	slices.SortStableFunc(out, func(a, b contract.OddsDomain) int { return cmp.Compare(b.Of, a.Of) })
	return out[:min(len(out), domainsShown)]
}

// oddsAt returns the odds of an address at a domain that is made of its name by a pattern.
func oddsAt(m *odds.Model, domain, operator string, known *odds.Neighbours, p naming.Pattern) float64 {
	stated, _ := m.Odds(odds.Evidence{Domain: domain, Operator: operator, Prior: Prior, Known: known, Facts: odds.Facts{Pattern: p, Named: true, Shape: naming.OneWord}})
	return rounded(stated)
}

// habitFrom is from how many mailboxes with names on the habit of a domain is told: as many as odds are
// made of.
const habitFrom = 5

func habitSays(p naming.Pattern, n, of int) string {
	if p == "" {
		return fmt.Sprintf("%d of %d not built from their names", n, of)
	}
	return fmt.Sprintf("%s (%d of %d)", p, n, of)
}

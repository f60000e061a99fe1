package odds

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/bounce"
	"varnet/core/naming"
	"varnet/core/odds"
	"varnet/core/say"
	"varnet/internal/store"
)

// most is how many outcomes are learnt from: the newest.
const most = 200_000

// lettersAtOnce is how many letters are looked at together.
const lettersAtOnce = 5000

// Learn has a workspace learn from the mailings that are over. learnt is false where nothing came
// since it learnt last; anew has it learn from what it knows.
func (o *Odds) Learn(ctx context.Context, workspace int64, anew bool) (learnt bool, err error) {
	mailings, err := o.Store.ToLearn(ctx, workspace)
	if err != nil {
		return false, err
	}
	var ids []int64
	observed := 0
	for _, m := range mailings {
		n, err := o.observe(ctx, m)
		if err != nil {
			return false, err
		}
		ids, observed = append(ids, m.ID), observed+n
	}
	var m store.OddsModel
	if observed > 0 || anew {
		if m, err = o.fit(ctx, workspace); err != nil {
			return false, err
		}
	}
	return m.Model != nil, o.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if m.Model != nil {
			if err := s.SaveOddsModel(ctx, workspace, m); err != nil {
				return err
			}
		}
		return s.SetLearnt(ctx, ids, o.Now())
	})
}

// observe keeps what became of the letters of a mailing to catch-all addresses, and returns of how
// many that says something.
func (o *Odds) observe(ctx context.Context, m store.Mailing) (n int, err error) {
	to, err := o.mailed(ctx, m)
	if err != nil {
		return 0, err
	}
	var said []int32
	for id, v := range to.verdicts {
		if stated(v) {
			said = append(said, id)
		}
	}
	return n, o.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		for after := 0; ; {
			letters, err := s.LettersSaid(ctx, m.ID, said, after, lettersAtOnce)
			if err != nil {
				return err
			}
			var observed []store.Observation
			for _, l := range letters {
				after = l.Number
				if one, ok := to.observed(m, l); ok {
					observed = append(observed, one)
				}
			}
			n += len(observed)
			if err := s.Observe(ctx, m.WorkspaceID, observed); err != nil {
				return err
			}
			if len(letters) < lettersAtOnce {
				break
			}
		}
		return s.SetHabits(ctx, to.run, to.habits())
	})
}

// recipients are the people that a mailing went to.
type recipients struct {
	people
	run         store.Run
	version     int               // the model by which odds had been stated
	byCanonical map[string]person // empty where their list is gone
}

// observed is what became of a letter; ok is false where that says nothing of the mailbox.
func (r *recipients) observed(m store.Mailing, l store.Mailed) (store.Observation, bool) {
	there, sure := bounce.Known{Outcome: l.Outcome, Permanent: l.Permanent}.Arrived()
	v := r.verdicts[l.Said]
	out := store.Observation{Canonical: l.Canonical, RunID: r.run.ID, Domain: l.Domain, Prior: prior(v), Said: v.Odds, Version: r.version, Arrived: there, SentAt: m.SentAt}
	if a, ok := r.byCanonical[l.Canonical]; ok {
		out.Facts, out.Operator = a.Facts, r.domains[a.domain].operator
	} else {
		out.Facts = odds.FactsOf(localOf(l.Mailbox), naming.Name{}, v.Traits)
	}
	return out, sure
}

// mailed reads the people that a mailing went to.
func (o *Odds) mailed(ctx context.Context, m store.Mailing) (*recipients, error) {
	r := &recipients{byCanonical: map[string]person{}}
	var err error
	if r.version, err = o.Store.OddsVersion(ctx, m.WorkspaceID, m.CreatedAt); err != nil {
		return nil, err
	}
	if r.run, err = o.Store.Run(ctx, m.WorkspaceID, *m.RunID); errors.Is(err, store.ErrNotFound) {
		r.run = store.Run{ID: *m.RunID, WorkspaceID: m.WorkspaceID}
		r.verdicts, err = o.Store.Verdicts(ctx)
		return r, err
	}
	if err != nil {
		return nil, err
	}
	l, err := o.Store.List(ctx, m.WorkspaceID, r.run.ListID)
	if err != nil {
		return nil, err
	}
	all, err := o.read(ctx, r.run, l)
	if err != nil {
		return nil, err
	}
	r.people = *all
	byOrdinal := make(map[int32]person, len(r.addresses))
	for _, a := range r.addresses {
		byOrdinal[a.ordinal] = a
	}
	return r, o.Store.EachMailbox(ctx, l.ID, func(ordinal int32, local, domain string) error {
		if a, ok := byOrdinal[ordinal]; ok {
			r.byCanonical[address.CanonicalOf(local, domain)] = a
		}
		return nil
	})
}

// fit learns from all that was observed; the model is nil where nothing was.
func (o *Odds) fit(ctx context.Context, workspace int64) (m store.OddsModel, err error) {
	outcomes, err := o.outcomes(ctx, workspace)
	if err != nil || len(outcomes) == 0 {
		return m, err
	}
	before, err := o.Store.OddsModel(ctx, workspace)
	if err != nil {
		return m, err
	}
	m = store.OddsModel{Version: before.Version + 1, Model: odds.Fit(outcomes)}
	m.Messages = int64(math.Round(m.Model.Usual.Seen.Of))
	m.Changes = changes(before.Model, m, outcomes)
	return m, nil
}

// outcomes are what a workspace learns from: what it observed itself, and the counts that others
// share.
func (o *Odds) outcomes(ctx context.Context, workspace int64) (out []odds.Outcome, err error) {
	known, err := o.Store.KnownMailboxes(ctx, workspace, nil)
	if err != nil {
		return nil, err
	}
	all, err := o.Store.Habits(ctx, workspace, 0, "")
	if err != nil {
		return nil, err
	}
	type place struct {
		run    int64
		domain string
	}
	habits := map[place]*odds.Neighbours{}
	for i := range all {
		habits[place{all[i].RunID, all[i].Domain}] = &all[i].Neighbours
	}
	now := o.Now()
	err = o.Store.Observations(ctx, workspace, most, func(ob store.Observation) {
		out = append(out, odds.Outcome{Arrived: ob.Arrived, AgeDays: now.Sub(ob.SentAt).Hours() / 24, Evidence: odds.Evidence{Domain: ob.Domain, Operator: ob.Operator, Prior: ob.Prior, Facts: ob.Facts,
			Known: known[ob.Domain], IsKnown: ob.Arrived, List: habits[place{ob.RunID, ob.Domain}]}})
	})
	if err != nil {
		return nil, err
	}
	counts, err := o.Store.SharedCounts(ctx, workspace)
	return append(out, odds.Share(counts, workspace, Prior)...), err
}

// mostChanges is how many domains are told whose odds have changed, toldFrom from how many messages on.
const (
	mostChanges = 5
	toldFrom    = 5
)

// changes says in sentences what a model says otherwise than the one before, of the domains that it
// learnt from.
func changes(before *odds.Model, now store.OddsModel, outcomes []odds.Outcome) []string {
	out := []string{fmt.Sprintf("Learnt from %s to catch-all addresses, of which %s arrived.", say.Plural(now.Messages, "message", "messages"), count(now.Model.Usual.Seen.Arrived))}
	type change struct {
		domain          string
		before, now, of float64
	}
	byDomain := map[string]*change{}
	for _, o := range outcomes {
		c := byDomain[o.Domain]
		if c == nil {
			c = &change{domain: o.Domain}
			byDomain[o.Domain] = c
		}
		was, _ := before.Odds(o.Evidence)
		is, _ := now.Model.Odds(o.Evidence)
		times := max(1, o.Times)
		c.before, c.now, c.of = c.before+was*times, c.now+is*times, c.of+times
	}
	all := slices.DeleteFunc(slices.Collect(maps.Values(byDomain)), func(c *change) bool { return c.of < toldFrom || math.Abs(c.now-c.before) < 0.01*c.of })
	slices.SortFunc(all, func(a, b *change) int {
		return cmp.Or(cmp.Compare(math.Abs(b.now-b.before)/b.of, math.Abs(a.now-a.before)/a.of), cmp.Compare(a.domain, b.domain))
	})
	for _, c := range all[:min(len(all), mostChanges)] {
		e := now.Model.Domains[c.domain]
		out = append(out, fmt.Sprintf("%s: on average %.0f in 100 became %.0f; %s of %s there arrived.", c.domain, 100*c.before/c.of, 100*c.now/c.of, count(e.Seen.Arrived), say.Plural(int64(math.Round(e.Seen.Of)), "message", "messages")))
	}
	if more := len(all) - mostChanges; more > 0 {
		out = append(out, fmt.Sprintf("The odds at %s more changed less than these.", say.Plural(int64(more), "domain", "domains")))
	}
	return out
}

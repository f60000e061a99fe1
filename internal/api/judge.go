package api

import (
	"context"
	"slices"
	"sync"
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/internal/store"
	"varnet/internal/work"
)

// judge rules on the rows of a run's list under a policy.
type judge struct {
	run      store.Run
	list     store.List
	policy   policy.Policy
	verdicts map[int32]finding.Verdict
	rulings  []policy.Ruling // by the place of the rule
	// hand is what was decided by hand, by address; it goes before the policy.
	hand map[int32]store.ByHand
	// byVerdict holds the rules' places where rows with the same verdict get
	// the same ruling; nil where each row must be looked at.
	byVerdict map[int32]int
	now       time.Time
}

// judgeOf gives the judge of a run under a policy.
func (a *API) judgeOf(ctx context.Context, run store.Run, l store.List, p policy.Policy) (*judge, error) {
	verdicts, err := a.store.Verdicts(ctx)
	if err != nil {
		return nil, err
	}
	byHand, err := a.store.ByHand(ctx, run)
	if err != nil {
		return nil, err
	}
	j := &judge{run: run, list: l, policy: p, verdicts: verdicts, rulings: p.Rulings(), hand: map[int32]store.ByHand{}, now: time.Now()}
	for _, h := range byHand {
		j.hand[h.Address] = h
	}
	if len(l.AddressColumns) == 1 && p.ByVerdict(oldest(run, j.now)) {
		j.byVerdict = make(map[int32]int, len(verdicts))
		for id, v := range verdicts {
			j.byVerdict[id] = p.First(policy.Row{Verdict: v})
		}
	}
	return j, nil
}

// oldest bounds the age of a run's results: those that it took over are older
// than itself.
func oldest(run store.Run, now time.Time) time.Duration {
	age := now.Sub(run.CreatedAt)
	if run.Plan.Reused > 0 {
		age += finding.KeepsAtMost(time.Duration(max(run.ReuseDays, work.SampleDays)) * 24 * time.Hour)
	}
	return age
}

// with tells what the judge must know of rows.
func (j *judge) with() store.OutWith {
	w := store.OutWith{}
	if j.byVerdict == nil {
		w.Domains = slices.ContainsFunc(j.policy.Rules, func(r policy.Rule) bool { return len(r.Operators)+len(r.Domains) > 0 })
	}
	return w
}

// What is ruled on before the policy is asked, in place of a rule.
const (
	ruleNone      = -1 // no address
	ruleDuplicate = -2
	ruleOpen      = -3
	ruleHand      = -4 // and below, by the place among the decisions
)

// handRule stands in place of a rule for what was decided by hand.
func handRule(d policy.Decision) int { return ruleHand - slices.Index(policy.Decisions(), d) }

// ruling is what comes of a rule, or of what stands in its place.
func (j *judge) ruling(rule int) policy.Ruling {
	switch rule {
	case ruleNone:
		return policy.NoAddress
	case ruleDuplicate:
		return policy.Duplicate
	case ruleOpen:
		return policy.Open
	}
	if rule <= ruleHand {
		return policy.ByHand(policy.Decisions()[ruleHand-rule])
	}
	return j.rulings[rule]
}

// cell gives the place of the rule that decides on an address cell.
func (j *judge) cell(r *store.OutRow, c *store.OutCell) int {
	switch {
	case c.Address == 0:
		return ruleNone
	case c.Address != c.Ordinal:
		return ruleDuplicate
	case j.hand[c.Address].Decision != "":
		return handRule(j.hand[c.Address].Decision)
	case c.Verdict == 0:
		return ruleOpen
	case j.byVerdict != nil:
		return j.byVerdict[c.Verdict]
	}
	row := policy.Row{Verdict: j.verdicts[c.Verdict], Domain: c.Domain, Operator: c.Operator,
		Cell: func(column string) string {
			i := slices.Index(j.list.Columns, column)
			if i < 0 {
				return ""
			}
			return j.list.Dialect.Kept().Cell(r.Raw, i)
		}}
	if !c.At.IsZero() {
		row.Age = j.now.Sub(c.At)
	}
	return j.policy.First(row)
}

// row gives the cell that decides on a row and the place of its rule: the first
// cell that can be kept, or else held, or else the first that is filled.
func (j *judge) row(r *store.OutRow) (slot, rule int) {
	rule = ruleNone
	best := len(policy.Decisions())
	for i := range r.Cells {
		place := j.cell(r, &r.Cells[i])
		rank := slices.Index(policy.Decisions(), j.ruling(place).Decision)
		if place != ruleNone && (rank < best || rule == ruleNone) {
			slot, rule, best = i, place, rank
		}
	}
	return slot, rule
}

// tally counts the rows of the list by ruling, and by rule.
type tally struct {
	policy.Tally
	rules []int64
}

func (j *judge) newTally() tally { return tally{policy.Tally{}, make([]int64, len(j.rulings))} }

func (t *tally) add(j *judge, rule int, rows int64) {
	t.Tally[j.ruling(rule)] += rows
	if rule >= 0 {
		t.rules[rule] += rows
	}
}

// tallyVerdicts counts the rows from the counts of verdicts. An address stands
// for its first row; every other row with it is a duplicate.
func (j *judge) tallyVerdicts(counts map[int32]int64) tally {
	t, open := j.newTally(), j.list.Addresses+j.list.Malformed
	for id, n := range counts {
		t.add(j, j.byVerdict[id], n)
		open -= n
	}
	t.add(j, ruleNone, j.list.Blank)
	t.add(j, ruleDuplicate, j.list.Duplicates)
	t.add(j, ruleOpen, open)
	for _, h := range j.hand {
		before := ruleOpen
		if h.Verdict != 0 {
			before = j.byVerdict[h.Verdict]
		}
		t.add(j, before, -1)
		t.add(j, handRule(h.Decision), 1)
	}
	return t
}

// tallyRows counts the rows one by one.
func (a *API) tallyRows(ctx context.Context, j *judge) (tally, error) {
	t := j.newTally()
	err := a.store.EachRow(ctx, j.run, j.list, j.with(), func(r *store.OutRow) error {
		_, rule := j.row(r)
		t.add(j, rule, 1)
		return nil
	})
	return t, err
}

// tallyOf counts the rows of a run of which the counts of verdicts are known.
// Where rows must be looked at one by one, what was counted is remembered as
// long as nothing new was found out.
func (a *API) tallyOf(ctx context.Context, j *judge, counts map[int32]int64) (tally, error) {
	if j.byVerdict != nil {
		return j.tallyVerdicts(counts), nil
	}
	return a.counted.of(j, counts, func() (tally, error) { return a.tallyRows(ctx, j) })
}

// remembered are counts that were made row by row.
type remembered struct {
	mu    sync.Mutex
	known map[int64]*countedRun // by run
}

type countedRun struct {
	mu    sync.Mutex
	state string // of the run and the policy
	tally tally
	took  time.Duration
	at    time.Time
}

// maxRemembered bounds the memory; what is not remembered is counted anew.
const maxRemembered = 200

// of gives the remembered count, or counts. While a run goes on its count may
// be older by 20 times what counting takes, so that watching costs little.
func (m *remembered) of(j *judge, counts map[int32]int64, count func() (tally, error)) (tally, error) {
	m.mu.Lock()
	if m.known == nil || len(m.known) > maxRemembered {
		m.known = map[int64]*countedRun{}
	}
	c := m.known[j.run.ID]
	if c == nil {
		c = &countedRun{}
		m.known[j.run.ID] = c
	}
	m.mu.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	ended, state := j.run.FinishedAt != nil, fingerprint(j.policy, j.hand)
	if ended {
		state = fingerprint(j.policy, j.hand, counts, j.run.FinishedAt)
	}
	fresh := j.now.Sub(c.at) < 20*c.took
	if c.state == state && (fresh || ended && !hasAge(j.policy)) {
		return c.tally, nil
	}
	begun := time.Now()
	t, err := count()
	if err == nil {
		c.state, c.tally, c.at, c.took = state, t, begun, time.Since(begun)
	}
	return t, err
}

// hasAge tells whether rulings change by time alone.
func hasAge(p policy.Policy) bool {
	return slices.ContainsFunc(p.Rules, func(r policy.Rule) bool { return r.OlderThan > 0 })
}

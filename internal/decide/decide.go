// Package decide rules on the rows of a run's list: what a person decided about an
// address goes first, then the policy. It reads through Source and writes nothing.
package decide

import (
	"context"
	"slices"
	"time"

	"varnet/core/estimate"
	"varnet/core/finding"
	"varnet/core/opinion"
	"varnet/core/policy"
	"varnet/internal/store"
)

// Source is where results, overrides and rows are read; the store is one.
type Source interface {
	Verdicts(ctx context.Context) (map[int32]finding.Verdict, error)
	Overrides(ctx context.Context, runs ...store.Run) (map[int64][]store.Override, error)
	EachRow(ctx context.Context, run store.Run, list store.List, with store.OutWith, do func(*store.OutRow) error) error
	RowsOf(ctx context.Context, run store.Run, list store.List, addresses []int32) (map[int32]*store.OutRow, error)
	Results(ctx context.Context, run store.Run, f store.ResultFilter) ([]store.Result, error)
	ResultsAmong(ctx context.Context, run store.Run, f store.ResultFilter, addresses []int32) ([]store.Result, error)
	TermsNamed(ctx context.Context, workspace int64, names []string) ([]store.SavedTerms, error)
	Activity(ctx context.Context, l store.List) (*store.Activity, error)
	OpinionMeans(ctx context.Context, workspace int64) (map[string]opinion.Means, error)
	ResultCounts(ctx context.Context, run store.Run, f store.ResultFilter) (map[int32]int64, error)
}

// Decider rules on the rows of one run under one policy.
type Decider struct {
	Run      store.Run
	List     store.List
	Policy   policy.Policy
	Verdicts map[int32]finding.Verdict // by number

	source    Source
	rulings   []policy.Ruling          // by the place of the rule
	overrides map[int32]store.Override // by address
	// byVerdict holds the rules where rows with the same verdict get the same ruling; nil
	// where each row must be looked at.
	byVerdict map[int32]Rule
	now       time.Time
	terms     terms
	beside    beside
}

// New returns what rules on the rows of a run under a policy.
func New(ctx context.Context, s Source, run store.Run, l store.List, p policy.Policy) (*Decider, error) {
	verdicts, err := s.Verdicts(ctx)
	if err != nil {
		return nil, err
	}
	overrides, err := s.Overrides(ctx, run)
	if err != nil {
		return nil, err
	}
	return Knowing(ctx, s, run, l, p, verdicts, overrides[run.ID])
}

// Knowing is New for those who have read verdicts and overrides already.
func Knowing(ctx context.Context, s Source, run store.Run, l store.List, p policy.Policy, verdicts map[int32]finding.Verdict, overrides []store.Override) (*Decider, error) {
	d := &Decider{Run: run, List: l, Policy: p, Verdicts: verdicts, source: s, rulings: p.Rulings(), overrides: map[int32]store.Override{}, now: time.Now()}
	for _, o := range overrides {
		d.overrides[o.Address] = o
	}
	if len(l.AddressColumns) == 1 && p.ByVerdict(oldest(run, d.now)) {
		d.byVerdict = make(map[int32]Rule, len(verdicts))
		for id, v := range verdicts {
			d.byVerdict[id] = Rule(p.First(policy.Row{Verdict: v}))
		}
	}
	var err error
	if d.terms, err = readTerms(ctx, s, l.WorkspaceID, p); err != nil {
		return d, err
	}
	d.beside, err = readBeside(ctx, s, l, p)
	return d, err
}

// oldest bounds the age of a run's results: those that it reused are older than itself.
func oldest(run store.Run, now time.Time) time.Duration {
	age := now.Sub(run.CreatedAt)
	if run.Plan.Reused > 0 {
		age += finding.KeepsAtMost(time.Duration(max(run.ReuseDays, estimate.SampleDays)) * 24 * time.Hour)
	}
	return age
}

// ByVerdict reports whether rows with the same verdict get the same ruling, so that no
// row need be looked at.
func (d *Decider) ByVerdict() bool { return d.byVerdict != nil }

// Changes reports whether rulings change by time alone.
func (d *Decider) Changes() bool {
	return !d.ByVerdict() && slices.ContainsFunc(d.Policy.Rules, func(r policy.Rule) bool { return r.OlderThan+r.ActiveWithin+r.InactiveFor > 0 })
}

// Override returns what a person decided about an address.
func (d *Decider) Override(address int32) (policy.Decision, bool) {
	o, ok := d.overrides[address]
	return o.Decision, ok
}

// State names what rulings rest on beside policy and results: the same for the same overrides, saved
// terms, activity and meanings of words.
func (d *Decider) State() string { return Fingerprint(d.overrides, d.terms.state, d.beside.state) }

// Overrides returns what persons decided, by address.
func (d *Decider) Overrides() map[int32]store.Override { return d.overrides }

// Needs returns what must be read beside rows to rule on them.
func (d *Decider) Needs() store.OutWith {
	w := store.OutWith{}
	if d.byVerdict == nil {
		w.Domains = slices.ContainsFunc(d.Policy.Rules, func(r policy.Rule) bool { return len(r.Operators)+len(r.Domains) > 0 })
		w.Times = slices.ContainsFunc(d.Policy.Rules, func(r policy.Rule) bool { return r.OlderThan > 0 })
	}
	return w
}

// Rule is what decides on a row: the place of a rule of the policy, one past the last
// where none fits, or below 0 what goes before the policy.
type Rule int

// What goes before the policy.
const (
	NoAddress Rule = -1
	Duplicate Rule = -2
	Open      Rule = -3
	override  Rule = -4 // and below, by the place among the decisions
)

// OfPolicy reports whether the policy decides.
func (r Rule) OfPolicy() bool { return r >= 0 }

func overridden(d policy.Decision) Rule { return override - Rule(slices.Index(policy.Decisions(), d)) }

// ruling returns what comes of a rule that goes before the policy.
func (r Rule) ruling() policy.Ruling {
	switch r {
	case NoAddress:
		return policy.Because(policy.NoAddress, policy.Drop)
	case Duplicate:
		return policy.Because(policy.Duplicate, policy.Drop)
	case Open:
		return policy.Because(policy.Open, policy.Hold)
	}
	return policy.Because(policy.Overridden, policy.Decisions()[override-r])
}

// Reason returns the words for a rule that goes before the policy.
func (r Rule) Reason() string { return r.ruling().Reason }

// Ruling returns what comes of a rule.
func (d *Decider) Ruling(r Rule) policy.Ruling {
	if r.OfPolicy() {
		return d.rulings[r]
	}
	return r.ruling()
}

// OfVerdict returns the decision on rows with a verdict, of a policy that rules by
// verdict.
func (d *Decider) OfVerdict(verdict int32) policy.Decision {
	return d.Ruling(d.byVerdict[verdict]).Decision
}

// Cell returns the rule that decides on an address cell.
func (d *Decider) Cell(r *store.OutRow, c *store.OutCell) Rule {
	switch {
	case c.Address == 0:
		return NoAddress
	case c.Address != c.Ordinal:
		return Duplicate
	case d.overrides[c.Address].Decision != "":
		return overridden(d.overrides[c.Address].Decision)
	case c.Verdict == 0:
		return Open
	case d.byVerdict != nil:
		return d.byVerdict[c.Verdict]
	}
	row := policy.Row{Verdict: d.Verdicts[c.Verdict], Domain: c.Domain, Operator: c.Operator, HasTerm: d.hasTerm(r), Inactive: d.beside.inactive(c.Address, d.now), Opinion: d.beside.opinionOf(d.List, r),
		Cell: func(column string) string {
			i := slices.Index(d.List.Columns, column)
			if i < 0 {
				return ""
			}
			return d.List.Dialect.Kept().Cell(r.Raw, i)
		}}
	if !c.At.IsZero() {
		row.Age = d.now.Sub(c.At)
	}
	return Rule(d.Policy.First(row))
}

// Row returns the cell that decides on a row, and its rule: the first cell that can be
// kept, or else held, or else the first that is filled.
func (d *Decider) Row(r *store.OutRow) (slot int, rule Rule) {
	rule = NoAddress
	best := len(policy.Decisions())
	for i := range r.Cells {
		of := d.Cell(r, &r.Cells[i])
		rank := slices.Index(policy.Decisions(), d.Ruling(of).Decision)
		if of != NoAddress && (rank < best || rule == NoAddress) {
			slot, rule, best = i, of, rank
		}
	}
	return slot, rule
}

// Contact is what of a row holds for the contact that it is.
type Contact struct {
	Verdict  finding.Verdict
	Decision policy.Decision
	Operator string
	Checked  time.Time
	// Repeats: its address is that of an earlier contact, with which it shares the rest.
	Repeats bool
}

// Contact returns what holds for the contact of a row: that of its best address, of which another
// contact may have the same. ok is false for one without an address or without a result.
func (d *Decider) Contact(r *store.OutRow) (c Contact, ok bool) {
	best := len(policy.Decisions())
	for i := range r.Cells {
		cell := r.Cells[i]
		if cell.Address == 0 || cell.Verdict == 0 {
			continue
		}
		repeats := cell.Address != cell.Ordinal
		cell.Ordinal = cell.Address
		decision := d.Ruling(d.Cell(r, &cell)).Decision
		if rank := slices.Index(policy.Decisions(), decision); rank < best {
			c, ok, best = Contact{d.Verdicts[cell.Verdict], decision, cell.Operator, cell.At, repeats}, true, rank
		}
	}
	return c, ok
}

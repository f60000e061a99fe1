package decide

import (
	"context"
	"slices"
	"strings"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// Filter chooses results by what was found and by what is decided about them.
type Filter struct {
	contract.Filter
	Decision   string `query:"decision" doc:"Only with this decision, by the run's policy or by an override."`
	Overridden bool   `query:"overridden" doc:"Only overrides: what a person decided."`
}

// Words returns the filter in words, "" for none.
func (f Filter) Words() string {
	words := []string{}
	if said := f.Filter.Says(); said != "" {
		words = append(words, said)
	}
	if f.Decision != "" {
		words = append(words, "with the decision "+f.Decision)
	}
	if f.Overridden {
		words = append(words, "overridden by a person")
	}
	return strings.Join(words, ", ")
}

// Result is a result and what is decided about it.
type Result struct {
	store.Result
	Decision policy.Decision
}

// page is the filter as far as the store looks at it.
func (d *Decider) page(f Filter, after int32, limit int) store.ResultFilter {
	page := store.ResultFilter{Search: strings.TrimSpace(f.Search), Domain: f.Domain, Operator: f.Operator, After: after, Limit: limit}
	if !f.AnyVerdict() {
		page.Verdicts = d.VerdictsWhere(f.Fits)
	}
	return page
}

// VerdictsWhere returns the numbers of the verdicts that fit, never nil.
func (d *Decider) VerdictsWhere(fits func(finding.Verdict) bool) []int32 {
	return VerdictsWhere(d.Verdicts, fits)
}

// VerdictsWhere returns the numbers of the verdicts that fit, never nil.
func VerdictsWhere(verdicts map[int32]finding.Verdict, fits func(finding.Verdict) bool) []int32 {
	out := []int32{}
	for id, v := range verdicts {
		if fits(v) {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}

// Results returns a page of the results that fit a filter, in the order of the list:
// overrides, which are few, and unless only they are wanted the others.
func (d *Decider) Results(ctx context.Context, f Filter, after int32, limit int) ([]Result, error) {
	return d.results(ctx, d.page(f, after, limit), f.Decision, f.Overridden)
}

func (d *Decider) results(ctx context.Context, f store.ResultFilter, want string, overridesOnly bool) (out []Result, err error) {
	if overridesOnly || want != "" && len(d.overrides) > 0 {
		var addresses []int32
		for _, o := range d.overrides {
			if want == "" || want == string(o.Decision) {
				addresses = append(addresses, o.Address)
			}
		}
		found, err := d.source.ResultsAmong(ctx, d.Run, f, addresses)
		if err != nil {
			return nil, err
		}
		for _, r := range found {
			out = append(out, Result{r, d.overrides[r.Address].Decision})
		}
	}
	if overridesOnly {
		return out, nil
	}
	others, err := d.byPolicy(ctx, f, want)
	out = append(out, others...)
	slices.SortFunc(out, func(a, b Result) int { return int(a.Address - b.Address) })
	return out[:min(len(out), f.Limit)], err
}

// byPolicy returns a page of results with a decision, without overrides; of any
// decision, with them.
func (d *Decider) byPolicy(ctx context.Context, f store.ResultFilter, want string) (out []Result, err error) {
	if want != "" && d.ByVerdict() {
		if f.Verdicts == nil {
			f.Verdicts = d.VerdictsWhere(func(finding.Verdict) bool { return true })
		}
		f.Verdicts = slices.DeleteFunc(f.Verdicts, func(id int32) bool { return want != string(d.OfVerdict(id)) })
	}
	for len(out) < f.Limit {
		found, err := d.source.Results(ctx, d.Run, f)
		if err != nil {
			return nil, err
		}
		decisions, err := d.Decisions(ctx, found)
		if err != nil {
			return nil, err
		}
		for i, r := range found {
			f.After = r.Address
			if want == "" || want == string(decisions[i]) && d.overrides[r.Address].Decision == "" {
				out = append(out, Result{r, decisions[i]})
			}
		}
		if len(found) < f.Limit {
			break
		}
	}
	return out, nil
}

// Decisions decides on some results.
func (d *Decider) Decisions(ctx context.Context, found []store.Result) ([]policy.Decision, error) {
	out, addresses := make([]policy.Decision, len(found)), make([]int32, len(found))
	for i, r := range found {
		addresses[i] = r.Address
		if d.ByVerdict() {
			out[i] = d.OfVerdict(r.Verdict)
		}
		if o, ok := d.overrides[r.Address]; ok {
			out[i] = o.Decision
		}
	}
	if d.ByVerdict() {
		return out, nil
	}
	rows, err := d.source.RowsOf(ctx, d.Run, d.List, addresses)
	if err != nil {
		return nil, err
	}
	for i, r := range found {
		row := rows[r.Address]
		out[i] = d.Ruling(d.Cell(row, row.Cell(r.Address))).Decision
	}
	return out, nil
}

// Matching returns the numbers of the addresses whose results fit a filter, up to one
// more than most.
func (d *Decider) Matching(ctx context.Context, f Filter, most int) (addresses []int32, err error) {
	const atOnce = 2000
	for page := d.page(f, 0, atOnce); len(addresses) <= most; {
		found, err := d.results(ctx, page, f.Decision, f.Overridden)
		if err != nil {
			return nil, err
		}
		for _, r := range found {
			addresses, page.After = append(addresses, r.Address), r.Address
		}
		if len(found) < atOnce {
			break
		}
	}
	return addresses[:min(len(addresses), most+1)], nil
}

// Pool is the results that a filter's domain, operator and text leave, by verdict; what
// else a filter looks at is counted from that.
type Pool struct {
	decider   *Decider
	counts    map[int32]int64
	overrides []store.Override // of those
}

// Pool counts what a filter's domain, operator and text leave.
func (d *Decider) Pool(ctx context.Context, f Filter) (p Pool, err error) {
	f = Filter{Filter: contract.Filter{Domain: f.Domain, Operator: f.Operator, Search: f.Search}}
	p.decider = d
	p.counts, err = d.source.ResultCounts(ctx, d.Run, d.page(f, 0, 0))
	if err != nil || len(d.overrides) == 0 {
		return p, err
	}
	var addresses []int32
	for address := range d.overrides {
		addresses = append(addresses, address)
	}
	found, err := d.source.ResultsAmong(ctx, d.Run, d.page(f, 0, len(addresses)), addresses)
	for _, r := range found {
		p.overrides = append(p.overrides, d.overrides[r.Address])
	}
	return p, err
}

// Count returns how many of the pool fit. The policy must rule by verdict if a decision
// is wanted.
func (p Pool) Count(f Filter) (n int64) {
	d := p.decider
	ruled := func(verdict int32) bool { return f.Decision == "" || string(d.OfVerdict(verdict)) == f.Decision }
	for id, c := range p.counts {
		if !f.Overridden && f.Fits(d.Verdicts[id]) && ruled(id) {
			n += c
		}
	}
	for _, o := range p.overrides {
		if !f.Fits(d.Verdicts[o.Verdict]) {
			continue
		}
		if !f.Overridden && ruled(o.Verdict) {
			n-- // it was counted by what the policy says
		}
		if f.Decision == "" || f.Decision == string(o.Decision) {
			n++
		}
	}
	return n
}

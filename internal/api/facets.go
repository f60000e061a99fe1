package api

import (
	"context"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// mostCounted is how many results are looked at one by one to be counted.
const mostCounted = 10_000

// pool is the results that a filter's domain, operator and text leave, by
// verdict; what else it looks at is counted from that.
type pool struct {
	counts map[int32]int64
	// hand are those of them that were decided by hand.
	hand []store.ByHand
}

// poolOf counts what a filter's domain, operator and text leave.
func (a *API) poolOf(ctx context.Context, j *judge, f DecidedFilter) (p pool, err error) {
	f = DecidedFilter{Filter: contract.Filter{Domain: f.Domain, Operator: f.Operator, Search: f.Search}}
	p.counts, err = a.store.ResultCounts(ctx, j.run, f.page(j, 0, 0))
	if err != nil || len(j.hand) == 0 {
		return p, err
	}
	var addresses []int32
	for address := range j.hand {
		addresses = append(addresses, address)
	}
	found, err := a.store.ResultsAmong(ctx, j.run, f.page(j, 0, len(addresses)), addresses)
	for _, r := range found {
		p.hand = append(p.hand, j.hand[r.Address])
	}
	return p, err
}

// count is how many of the pool fit. The policy must rule by verdict if a
// decision is wanted.
func (p pool) count(j *judge, f DecidedFilter) (n int64) {
	ruled := func(verdict int32) bool {
		return f.Decision == "" || string(j.ruling(j.byVerdict[verdict]).Decision) == f.Decision
	}
	for id, c := range p.counts {
		if !f.Hand && f.Fits(j.verdicts[id]) && ruled(id) {
			n += c
		}
	}
	for _, h := range p.hand {
		if !f.Fits(j.verdicts[h.Verdict]) {
			continue
		}
		if !f.Hand && ruled(h.Verdict) {
			n-- // it was counted by what the policy says
		}
		if f.Decision == "" || f.Decision == string(h.Decision) {
			n++
		}
	}
	return n
}

func (a *API) countFitting(ctx context.Context, in *FittingInput) (*struct{ Body contract.Fitting }, error) {
	j, err := a.judgeOfRun(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if in.Decision != "" && j.byVerdict == nil {
		return a.countDecided(ctx, j, in.DecidedFilter)
	}
	p, err := a.poolOf(ctx, j, in.DecidedFilter)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := contract.Fitting{Addresses: p.count(j, in.DecidedFilter), Facets: []contract.Facet{}}
	facet := func(part, value string, f DecidedFilter) {
		if n := p.count(j, f); n > 0 {
			out.Facets = append(out.Facets, contract.Facet{Part: part, Value: value, Addresses: n})
		}
	}
	for _, v := range finding.Findings() {
		f := in.DecidedFilter
		f.Finding = string(v)
		facet("finding", f.Finding, f)
	}
	for _, c := range finding.Causes() {
		f := in.DecidedFilter
		f.Cause = string(c.Code)
		facet("cause", f.Cause, f)
	}
	for _, t := range finding.TraitInfos() {
		f := in.DecidedFilter
		f.Trait = string(t.Code)
		facet("trait", f.Trait, f)
	}
	for _, d := range policy.Decisions() {
		f := in.DecidedFilter
		if f.Decision = string(d); j.byVerdict != nil {
			facet("decision", f.Decision, f)
		}
	}
	return &struct{ Body contract.Fitting }{out}, nil
}

// countDecided counts results with a decision where the policy looks at each row.
func (a *API) countDecided(ctx context.Context, j *judge, f DecidedFilter) (*struct{ Body contract.Fitting }, error) {
	found, err := a.fitting(ctx, j, f, mostCounted)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	n := min(len(found), mostCounted)
	return &struct{ Body contract.Fitting }{contract.Fitting{Addresses: int64(n), More: len(found) > n, Facets: []contract.Facet{}}}, nil
}

package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/decide"
)

// mostOverridden is how many addresses may be overridden at once: overrides are kept in
// memory beside the policy, which is made for more.
const mostOverridden = 10_000

func (a *API) registerFitting(h huma.API) {
	huma.Register(h, operation("fitting", http.MethodGet, "/runs/{id}/fitting", "How many results of a run fit a filter, and how many would if one part of it were another"), a.countFitting)
	huma.Register(h, operation("decide-fitting", http.MethodPost, "/runs/{id}/by-hand", "Decide about all results that fit a filter, whatever the policy says"), a.decideFitting)
}

// FittingInput names a run and which of its results are meant.
type FittingInput struct {
	ByID
	decide.Filter
}

// mostCounted is how many results are looked at one by one to be counted.
const mostCounted = 10_000

func (a *API) countFitting(ctx context.Context, in *FittingInput) (*struct{ Body contract.Fitting }, error) {
	d, err := a.decider(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if in.Decision != "" && !d.ByVerdict() {
		return a.countDecided(ctx, d, in.Filter)
	}
	p, err := d.Pool(ctx, in.Filter)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := contract.Fitting{Addresses: p.Count(in.Filter), Facets: []contract.Facet{}}
	facet := func(part, value string, f decide.Filter) {
		if n := p.Count(f); n > 0 {
			out.Facets = append(out.Facets, contract.Facet{Part: part, Value: value, Addresses: n})
		}
	}
	for _, v := range finding.Findings() {
		f := in.Filter
		f.Finding = string(v)
		facet("finding", f.Finding, f)
	}
	for _, c := range finding.Causes() {
		f := in.Filter
		f.Cause = string(c.Code)
		facet("cause", f.Cause, f)
	}
	for _, t := range finding.TraitInfos() {
		f := in.Filter
		f.Trait = string(t.Code)
		facet("trait", f.Trait, f)
	}
	for _, decision := range policy.Decisions() {
		f := in.Filter
		if f.Decision = string(decision); d.ByVerdict() {
			facet("decision", f.Decision, f)
		}
	}
	return &struct{ Body contract.Fitting }{out}, nil
}

// countDecided counts results with a decision where the policy looks at each row.
func (a *API) countDecided(ctx context.Context, d *decide.Decider, f decide.Filter) (*struct{ Body contract.Fitting }, error) {
	found, err := d.Matching(ctx, f, mostCounted)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	n := min(len(found), mostCounted)
	return &struct{ Body contract.Fitting }{contract.Fitting{Addresses: int64(n), More: len(found) > n, Facets: []contract.Facet{}}}, nil
}

func (a *API) decideFitting(ctx context.Context, in *struct {
	FittingInput
	Body contract.FittingByHand
}) (*struct{ Body contract.ByHandDone }, error) {
	d, err := a.decider(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	found, err := d.Matching(ctx, in.Filter, mostOverridden)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if len(found) > mostOverridden {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("More than %s addresses fit; about so many a rule of a policy decides better. Nothing was decided.", say.Number(mostOverridden)))
	}
	n, err := a.store.SetOverrides(ctx, d.List.ID, found, byHandDecision(in.Body.Decision))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.ByHandDone }{contract.ByHandDone{Addresses: n}}, nil
}

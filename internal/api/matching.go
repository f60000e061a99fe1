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

func (a *API) registerMatching(h huma.API) {
	huma.Register(h, operation("count-matching", http.MethodGet, "/runs/{id}/matching", "How many results of a run match a filter"), a.countMatching)
	huma.Register(h, operation("override-matching", http.MethodPost, "/runs/{id}/overrides", "Decide about all results that match a filter, whatever the policy says"), a.overrideMatching)
}

// MatchingInput names a run and which of its results are meant.
type MatchingInput struct {
	ByID
	decide.Filter
}

// mostCounted is how many results are looked at one by one to be counted.
const mostCounted = 10_000

func (a *API) countMatching(ctx context.Context, in *MatchingInput) (*struct{ Body contract.Matching }, error) {
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
	out := contract.Matching{Addresses: p.Count(in.Filter), Facets: []contract.Facet{}}
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
	return &struct{ Body contract.Matching }{out}, nil
}

// countDecided counts results with a decision where the policy looks at each row.
func (a *API) countDecided(ctx context.Context, d *decide.Decider, f decide.Filter) (*struct{ Body contract.Matching }, error) {
	found, err := d.Matching(ctx, f, mostCounted)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	n := min(len(found), mostCounted)
	return &struct{ Body contract.Matching }{contract.Matching{Addresses: int64(n), More: len(found) > n, Facets: []contract.Facet{}}}, nil
}

func (a *API) overrideMatching(ctx context.Context, in *struct {
	MatchingInput
	All  bool `query:"all" doc:"With no filter: whether all results are meant."`
	Body contract.OverrideMatching
}) (*struct{ Body contract.Overridden }, error) {
	d, err := a.decider(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if in.Filter == (decide.Filter{}) && !in.All {
		return nil, ofKind(contract.FilterNeeded, "No filter was given, so this would override the policy for all results. Give a filter, or set all=true. Nothing was decided.")
	}
	found, err := d.Matching(ctx, in.Filter, mostOverridden)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if len(found) > mostOverridden {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("More than %s addresses match; a rule of a policy is better for that many. Nothing was decided.", say.Number(mostOverridden)))
	}
	n, err := a.store.SetOverrides(ctx, d.List.ID, found, overrideDecision(in.Body.Decision))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Overridden }{contract.Overridden{Addresses: n}}, nil
}

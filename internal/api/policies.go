package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/store"
)

// ByName is a path with the name of a policy.
type ByName struct {
	Name string `path:"name" maxLength:"40" example:"spring-mailing" doc:"The policy's name."`
}

type policyOutput struct{ Body contract.KnownPolicy }

func (a *API) registerPolicies(h huma.API) {
	huma.Register(h, operation("get-policies", http.MethodGet, "/policies", "The policies, as sentences and as rules: the ready-made ones, then your own"), a.policies)
	huma.Register(h, operation("get-policy", http.MethodGet, "/policies/{name}", "One policy"), a.policyByName)
	huma.Register(h, operation("save-policy", http.MethodPut, "/policies/{name}", "Save a policy of your own; a change is a new version"), a.savePolicy)
	huma.Register(h, operation("delete-policy", http.MethodDelete, "/policies/{name}", "Delete a policy of your own; runs keep theirs"),
		func(ctx context.Context, in *ByName) (*struct{}, error) {
			if err := a.store.DeletePolicy(ctx, workspace(ctx).ID, in.Name); err != nil {
				return nil, a.failed(ctx, err)
			}
			return nil, nil
		})
	huma.Register(h, operation("try-policy", http.MethodPost, "/runs/{id}/try", "What a policy would do with the rows of a run; nothing is changed, nobody is asked"), a.tryPolicy)
	huma.Register(h, operation("choose-policy", http.MethodPut, "/runs/{id}/policy", "Let another policy decide on a run; nobody is asked again"), a.decide)
}

func (a *API) policies(ctx context.Context, _ *struct{}) (*pageOutput[contract.KnownPolicy], error) {
	own, err := a.store.Policies(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := []contract.KnownPolicy{}
	for _, p := range append(policy.Ready(), own...) {
		out = append(out, policyBody(p))
	}
	return whole(out), nil
}

func policyBody(p policy.Policy) contract.KnownPolicy {
	return contract.KnownPolicy{Policy: contract.PolicyOf(p), Ready: p.Version == 0, Says: p.Says()}
}

func (a *API) policyByName(ctx context.Context, in *struct {
	ByName
	Version int `query:"version" minimum:"0" doc:"A version of it; 0: the last."`
}) (*policyOutput, error) {
	p, err := a.namedPolicy(ctx, in.Name, in.Version)
	if err != nil {
		return nil, err
	}
	return &policyOutput{policyBody(p)}, nil
}

// namedPolicy returns a ready-made policy or one of the workspace's own.
func (a *API) namedPolicy(ctx context.Context, name string, version int) (policy.Policy, error) {
	if p, err := policy.Named(name); err == nil {
		return p, nil
	}
	w := workspace(ctx).ID
	p, err := a.store.Policy(ctx, w, name, version)
	switch {
	case err == nil:
		return p, nil
	case !errors.Is(err, store.ErrNotFound):
		return p, a.failed(ctx, err)
	}
	own, err := a.store.Policies(ctx, w)
	if err != nil {
		return p, a.failed(ctx, err)
	}
	var names []string
	for _, p := range append(policy.Ready(), own...) {
		names = append(names, p.Name)
	}
	return p, huma.Error422UnprocessableEntity(fmt.Sprintf("There is no policy named %q; there is: %s.", name, strings.Join(names, ", ")))
}

func (a *API) savePolicy(ctx context.Context, in *struct {
	ByName
	Body contract.Policy
}) (*policyOutput, error) {
	p := in.Body.Core()
	p.Name = in.Name
	if _, err := policy.Named(p.Name); err == nil {
		return nil, huma.Error409Conflict(fmt.Sprintf("%q is a ready-made policy, which stays as it is. Save yours under another name.", p.Name))
	}
	if err := p.Check(); err != nil {
		return nil, huma.Error422UnprocessableEntity(say.Sentence(err.Error()))
	}
	for i, r := range p.Rules {
		for _, name := range r.TermLists {
			if _, err := a.store.Terms(ctx, workspace(ctx).ID, name); errors.Is(err, store.ErrNotFound) {
				return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("Rule %d: there are no saved terms called %q. Save them under this name first.", i+1, name))
			}
		}
	}
	saved, err := a.store.SavePolicy(ctx, workspace(ctx).ID, p)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &policyOutput{policyBody(saved)}, nil
}

func (a *API) tryPolicy(ctx context.Context, in *struct {
	ByID
	Body contract.Policy
}) (*struct{ Body contract.Trial }, error) {
	other := in.Body.Core()
	if err := other.Check(); err != nil {
		return nil, huma.Error422UnprocessableEntity(say.Sentence(err.Error()))
	}
	run, l, err := a.runAndList(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	p, err := a.store.Progress(ctx, run.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	d, err := decide.New(ctx, a.store, run, l, other)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	t, err := a.summaries.Counted.Tally(ctx, d, p[run.ID].Verdicts)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := contract.Trial{Says: other.Says(), Sentence: t.Sentence(policy.Keep), Counts: contract.Counts(t.Counts())}
	for i, n := range t.ByRule {
		ruling := d.Ruling(decide.Rule(i))
		out.Rules = append(out.Rules, contract.Count{Decision: ruling.Decision, Code: ruling.Code, Reason: ruling.Reason, Rows: n})
	}
	return &struct{ Body contract.Trial }{out}, nil
}

func (a *API) decide(ctx context.Context, in *struct {
	ByID
	Body contract.PolicyChoice
}) (*runOutput, error) {
	p, err := a.namedPolicy(ctx, in.Body.Name, 0)
	if err != nil {
		return nil, err
	}
	if err := a.store.SetPolicy(ctx, workspace(ctx).ID, in.ID, p); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.run(ctx, &in.ByID)
}

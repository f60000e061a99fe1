package api

import (
	"context"
	"net/http"
	"sync"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/work"
)

func (a *API) registerChecks(h huma.API) {
	huma.Register(h, operation("check", http.MethodPost, "/checks", "Check some addresses now, with all that is seen"), a.check)
}

func (a *API) check(ctx context.Context, in *struct{ Body contract.Addresses }) (*struct{ Body []contract.Evidence }, error) {
	out := make([]contract.Evidence, len(in.Body.Addresses))
	var wg sync.WaitGroup
	for i, typed := range in.Body.Addresses {
		wg.Go(func() { out[i] = checkBody(a.engine.Check(ctx, workspace(ctx).ID, typed)) })
	}
	wg.Wait()
	return &struct{ Body []contract.Evidence }{out}, nil
}

func checkBody(c work.Checked) contract.Evidence {
	e := withWords(verdictBody(c.Verdict, policy.Careful().Decide(policy.Row{Verdict: c.Verdict}).Decision))
	e.Typed, e.At = c.Typed, c.At
	if c.Problem != nil {
		e.Problem = c.Problem.Reason
		return e
	}
	e.Mailbox, e.Domain, e.Mended, e.DNS, e.Manner = c.Address.Mailbox(), c.Address.Domain, c.Address.Mended, c.Domain, c.Manner
	e.Operator, e.Suggestion = c.Domain.Operator(), suggestion(e.Mailbox, c.Suggestion)
	if c.Manner != nil {
		e.MannerSays = c.Manner.Accepts.Sentence()
	}
	for _, q := range c.Asked {
		e.Asked = append(e.Asked, askedBody(q, c.Conversations))
	}
	return e
}

package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/export"
	"varnet/internal/work"
)

func (a *API) registerChecks(h huma.API) {
	huma.Register(h, operation("check-addresses", http.MethodPost, "/checks", "Check some addresses now, with all that is seen"), a.check)
	stream := operation("check-address", http.MethodPost, "/checks/events", "Check an address now and tell each stage that it passes; all that is seen at the end")
	stream.Metadata = map[string]any{"stream": true}
	sse.Register(h, stream, map[string]any{"stage": contract.Passed{}, "evidence": contract.Evidence{}}, a.checkEvents)
}

func (a *API) check(ctx context.Context, in *struct{ Body contract.Addresses }) (*pageOutput[contract.Evidence], error) {
	if err := a.mayCheck(ctx, len(in.Body.Addresses)); err != nil {
		return nil, err
	}
	out := make([]contract.Evidence, len(in.Body.Addresses))
	var wg sync.WaitGroup
	for i, typed := range in.Body.Addresses {
		wg.Go(func() {
			out[i] = checkBody(a.engine.Check(ctx, workspace(ctx).ID, typed, func(finding.Stage, work.Checked) {}))
		})
	}
	wg.Wait()
	return whole(out), nil
}

func (a *API) checkEvents(ctx context.Context, in *struct{ Body contract.OneAddress }, send sse.Sender) {
	c := a.engine.Check(ctx, workspace(ctx).ID, in.Body.Address, func(s finding.Stage, c work.Checked) {
		_ = send.Data(passedBody(s, c))
	})
	_ = send.Data(checkBody(c))
}

// passedBody says that an address has passed a stage.
func passedBody(s finding.Stage, c work.Checked) contract.Passed {
	p := contract.Passed{Stage: s, Says: fmt.Sprintf("The form is that of an address at %s.", c.Address.Domain)}
	if s == finding.StageDomain {
		p.Says = fmt.Sprintf("The domain takes mail at %s; they are asked now.", strings.Join(c.Domain.Hosts(), ", "))
	}
	return p
}

func checkBody(c work.Checked) contract.Evidence {
	e := withWords(verdictBody(c.Verdict, policy.Careful().Decide(policy.Row{Verdict: c.Verdict}).Decision), c.Factors)
	e.Typed, e.At = c.Typed, c.At
	if c.Problem != nil {
		e.Problem = c.Problem.Reason
		return e
	}
	e.Mailbox, e.Domain, e.Mended = c.Address.Mailbox(), c.Address.Domain, c.Address.Mended
	dns := contract.DomainOf(*c.Domain)
	e.DNS = &dns
	e.Operator, e.Suggestion = c.Domain.Operator(), export.Suggestion(e.Mailbox, c.Suggestion)
	if c.Acceptance != nil {
		addAcceptance(&e, *c.Acceptance)
	}
	for _, q := range c.Asked {
		e.Asked = append(e.Asked, askedBody(q, c.Conversations))
	}
	return e
}

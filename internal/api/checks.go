package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/export"
	"varnet/internal/store"
	"varnet/internal/work"
)

func (a *API) registerChecks(h huma.API) {
	huma.Register(h, operation("check-addresses", http.MethodPost, "/checks", "Check some addresses now, with all that is seen"), a.check)
	stream := operation("check-address", http.MethodPost, "/checks/events", "Check an address now and tell each stage that it passes; all that is seen at the end")
	stream.Metadata = map[string]any{"stream": true}
	stream.Middlewares = huma.Middlewares{a.mayStream(h)}
	sse.Register(h, stream, map[string]any{"stage": contract.Passed{}, "evidence": contract.Evidence{}}, a.checkEvents)
}

func (a *API) check(ctx context.Context, in *struct{ Body contract.Addresses }) (*pageOutput[contract.Evidence], error) {
	if err := a.mayCheck(ctx, len(in.Body.Addresses)); err != nil {
		return nil, err
	}
	found, err := a.engine.CheckPaid(ctx, workspace(ctx).ID, a.reserve, in.Body.Addresses)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, checkBody)), nil
}

// reserve sets aside what a check may cost, where an allowance of the workspace is kept: that was read with who asks.
func (a *API) reserve(ctx context.Context, addresses int) (store.Reservation, error) {
	if !callerOf(ctx).Allowance {
		return store.Reservation{}, nil
	}
	return a.engine.Allowance.Single(ctx, workspace(ctx).ID, by(ctx), addresses)
}

// mayStream refuses a check on the account of the workspace before its stream begins, which cannot.
func (a *API) mayStream(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		r, err := a.reserve(ctx.Context(), 1)
		if err != nil {
			var told *huma.ErrorModel
			errors.As(a.failed(ctx.Context(), err), &told)
			_ = huma.WriteErr(h, ctx, told.Status, told.Detail)
			return
		}
		next(huma.WithValue(ctx, reservationKey{}, r))
		a.settle(ctx.Context(), r, nil) // where the check was not begun
	}
}

type reservationKey struct{}

func (a *API) checkEvents(ctx context.Context, in *struct{ Body contract.OneAddress }, send sse.Sender) {
	c := a.engine.Check(ctx, workspace(ctx).ID, in.Body.Address, func(s finding.Stage, c work.Checked) bool {
		_ = send.Data(passedBody(s, c))
		return true
	})
	if r, ok := ctx.Value(reservationKey{}).(store.Reservation); ok {
		a.settle(ctx, r, []finding.Verdict{c.Verdict})
	}
	_ = send.Data(checkBody(c))
}

// settle charges what was found, whether or not somebody still listens.
func (a *API) settle(ctx context.Context, r store.Reservation, found []finding.Verdict) {
	if err := a.engine.Allowance.Settle(context.WithoutCancel(ctx), r, found); err != nil {
		a.log.Error("a single check was not charged; what was set aside is given back later", "err", err)
	}
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
	if c.Domain == nil { // nothing is kept of it
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

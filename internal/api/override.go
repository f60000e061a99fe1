package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/address"
	"varnet/core/policy"
	"varnet/internal/contract"
)

func (a *API) registerOverrides(h huma.API) {
	huma.Register(h, operation("override-addresses", http.MethodPost, "/lists/{id}/overrides", "Override the policy for some addresses of a list"), a.override)
}

// overrideDecision is the decision asked for; "policy" leaves addresses to the policy
// again, which is none.
func overrideDecision(asked policy.Decision) policy.Decision {
	if asked == "policy" {
		return ""
	}
	return asked
}

func (a *API) override(ctx context.Context, in *struct {
	ByID
	Body contract.Override
}) (*struct{ Body contract.Overridden }, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	d := overrideDecision(in.Body.Decision)
	var mailboxes []string
	for _, m := range in.Body.Mailboxes {
		if read, err := address.Parse(m); err == nil {
			mailboxes = append(mailboxes, read.Mailbox())
		}
	}
	addresses, err := a.store.Numbers(ctx, l.ID, mailboxes)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	n, err := a.store.SetOverrides(ctx, l.ID, append(addresses, in.Body.Ordinals...), d)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if n == 0 && d != "" {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("The list %q has none of these addresses.", l.Name))
	}
	return &struct{ Body contract.Overridden }{contract.Overridden{Addresses: n}}, nil
}

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

func (a *API) registerByHand(h huma.API) {
	huma.Register(h, operation("decide-by-hand", http.MethodPost, "/lists/{id}/by-hand", "Override the policy for some addresses of a list"), a.decideByHand)
	huma.Register(h, operation("archive-list", http.MethodPut, "/lists/{id}/archived", "Archive a list, or show it among the others again"),
		func(ctx context.Context, in *struct {
			ByID
			Body contract.Archiving
		}) (*struct{}, error) {
			if err := a.store.Archive(ctx, workspace(ctx).ID, in.ID, in.Body.Archived); err != nil {
				return nil, a.failed(ctx, err)
			}
			return nil, nil
		})
}

// byHandDecision is the decision asked for; "policy" leaves addresses to the policy
// again, which is none.
func byHandDecision(asked policy.Decision) policy.Decision {
	if asked == "policy" {
		return ""
	}
	return asked
}

func (a *API) decideByHand(ctx context.Context, in *struct {
	ByID
	Body contract.ByHand
}) (*struct{ Body contract.ByHandDone }, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	d := byHandDecision(in.Body.Decision)
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
	n, err := a.store.SetOverrides(ctx, l.ID, append(addresses, in.Body.Addresses...), d)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if n == 0 && d != "" {
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("The list %q has none of these addresses.", l.Name))
	}
	return &struct{ Body contract.ByHandDone }{contract.ByHandDone{Addresses: n}}, nil
}

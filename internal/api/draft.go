package api

import (
	"context"

	"varnet/internal/contract"
	"varnet/internal/summary"
)

type draftOutput struct{ Body contract.Draft }

func (a *API) draftRun(ctx context.Context, in *struct {
	ByID
	Body contract.NewRun
}) (*draftOutput, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	r, err := a.newRun(ctx, l, in.Body)
	if err != nil {
		return nil, err
	}
	d, err := a.engine.Draft(ctx, l, r)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := summary.DraftOf(l, d, a.engine.Rounds)
	said, kept, err := a.engine.SaidOf(ctx, l, r, d.Reused)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if kept {
		out.Allowance = &contract.SaidBefore{Most: said.Most, Available: said.Available, Left: said.Left, Missing: said.Missing, Says: said.Says()}
	}
	return &draftOutput{out}, nil
}

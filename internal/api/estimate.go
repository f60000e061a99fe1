package api

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
	"varnet/internal/store"
	"varnet/internal/summary"
)

type estimateOutput struct{ Body contract.Estimate }

func (a *API) registerEstimate(h huma.API) {
	huma.Register(h, operation("make-estimate", http.MethodPost, "/lists/{id}/estimate", "Estimate from a sample what a run of a list will find; takes up to half a minute"), a.makeEstimate)
	huma.Register(h, operation("get-estimate", http.MethodGet, "/lists/{id}/estimate", "The last quick estimate of a list"), a.estimate)
}

func (a *API) estimate(ctx context.Context, in *ByID) (*estimateOutput, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	var e *contract.Estimate
	if err == nil {
		e, err = a.lastEstimate(ctx, l.ID)
	}
	if err == nil && e == nil {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &estimateOutput{*e}, nil
}

// lastEstimate returns the last quick estimate of a list; nil where there is none.
func (a *API) lastEstimate(ctx context.Context, list int64) (e *contract.Estimate, err error) {
	saved, err := a.store.Estimates(ctx, list)
	if err != nil || saved[list] == nil {
		return nil, err
	}
	err = json.Unmarshal(saved[list], &e)
	return e, err
}

func (a *API) makeEstimate(ctx context.Context, in *ByID) (*estimateOutput, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if err := a.engine.Allowance.MayEstimate(ctx, l.WorkspaceID); err != nil {
		return nil, a.failed(ctx, err)
	}
	run, err := a.engine.Sample(ctx, l)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	p, err := a.store.Progress(ctx, run.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	verdicts, err := a.store.Verdicts(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	e := summary.EstimateOf(l, int64(len(run.Sample)), p[run.ID].Verdicts, verdicts)
	if err := a.engine.Estimated(ctx, l, e); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &estimateOutput{e}, nil
}

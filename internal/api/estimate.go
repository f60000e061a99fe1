package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
	"varnet/internal/summary"
)

type estimateOutput struct{ Body contract.Estimate }

func (a *API) registerEstimate(h huma.API) {
	huma.Register(h, operation("make-estimate", http.MethodPost, "/lists/{id}/estimate", "Tell from a sample what a list will come to; takes up to half a minute"), a.makeEstimate)
	huma.Register(h, operation("estimate", http.MethodGet, "/lists/{id}/estimate", "The last quick estimate of a list"), a.estimate)
}

func (a *API) estimate(ctx context.Context, in *ByID) (*estimateOutput, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	var e contract.Estimate
	if err == nil {
		err = a.store.Estimate(ctx, l.ID, &e)
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &estimateOutput{e}, nil
}

func (a *API) makeEstimate(ctx context.Context, in *ByID) (*estimateOutput, error) {
	l, err := a.store.List(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
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
	e := summary.EstimateOf(l, int64(len(run.Sample)), p.Verdicts, verdicts)
	if err := a.store.SaveEstimate(ctx, l.ID, e); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &estimateOutput{e}, nil
}

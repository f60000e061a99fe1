package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerWorkers(h huma.API) {
	op := a.keepersOperation(h)
	list := op("get-workers", http.MethodGet, "/workers", "The processes that work on runs")
	huma.Register(h, list, func(ctx context.Context, _ *struct{}) (*pageOutput[contract.Worker], error) {
		found, err := a.store.Workers(ctx)
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		out := []contract.Worker{}
		for _, w := range found {
			out = append(out, contract.Worker(w))
		}
		return whole(out), nil
	})
	health := op("get-health", http.MethodGet, "/health", "What waits to be worked, over all runs, and how the database is")
	huma.Register(h, health, a.health)
	drain := op("drain-worker", http.MethodPost, "/workers/{id}/drain", "Tell a worker to take nothing new and come to its end")
	drain.DefaultStatus = http.StatusNoContent
	huma.Register(h, drain, func(ctx context.Context, in *struct {
		ID string `path:"id" doc:"Its ID."`
	}) (*struct{}, error) {
		if err := a.store.DrainWorker(ctx, in.ID); err != nil {
			return nil, a.failed(ctx, err)
		}
		return nil, nil
	})
}

type retentionOutput struct{ Body contract.Retention }

func (a *API) registerRetention(h huma.API) {
	huma.Register(h, operation("get-retention", http.MethodGet, "/retention", "For how long lists are kept"),
		func(ctx context.Context, _ *struct{}) (*retentionOutput, error) {
			days, err := a.store.KeepDays(ctx, workspace(ctx).ID)
			if err != nil {
				return nil, a.failed(ctx, err)
			}
			return &retentionOutput{contract.Retention{Days: days}}, nil
		})
	huma.Register(h, operation("set-retention", http.MethodPut, "/retention", "Change for how long lists are kept that have no days of their own"),
		func(ctx context.Context, in *struct{ Body contract.Retention }) (*retentionOutput, error) {
			if err := a.store.SetKeepDays(ctx, workspace(ctx).ID, in.Body.Days); err != nil {
				return nil, a.failed(ctx, err)
			}
			return &retentionOutput{in.Body}, nil
		})
}

// keptUntil tells when a list will be deleted whose workspace keeps lists so many days; nil:
// when somebody does. The last run's end is nil while it goes on, or where there is none.
func keptUntil(l store.List, days int, lastRun *time.Time) *time.Time {
	if l.KeepDays != nil {
		days = *l.KeepDays
	}
	if days == 0 {
		return nil
	}
	from := l.CreatedAt
	if lastRun != nil && lastRun.After(from) {
		from = *lastRun
	}
	until := from.AddDate(0, 0, days)
	return &until
}

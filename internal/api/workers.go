package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerWorkers(h huma.API) {
	list := operation("get-workers", http.MethodGet, "/workers", "The processes that work on runs")
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
	health := operation("get-health", http.MethodGet, "/health", "What waits to be worked, over all runs, and how the database is")
	huma.Register(h, health, a.health)
	drain := operation("drain-worker", http.MethodPost, "/workers/{id}/drain", "Tell a worker to take nothing new and stop")
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
			days, most, err := a.store.KeepDays(ctx, workspace(ctx).ID)
			if err != nil {
				return nil, a.failed(ctx, err)
			}
			return &retentionOutput{contract.Retention{Days: days, MaxDays: most}}, nil
		})
	huma.Register(h, operation("set-retention", http.MethodPut, "/retention", "Change for how long lists are kept that have no days of their own"),
		func(ctx context.Context, in *struct{ Body contract.Retention }) (*retentionOutput, error) {
			_, most, err := a.store.KeepDays(ctx, workspace(ctx).ID)
			if err != nil {
				return nil, a.failed(ctx, err)
			}
			if err := keptNoLonger(in.Body.Days, most, "body.days"); err != nil {
				return nil, err
			}
			in.Body.MaxDays = most
			if err := a.store.SetKeepDays(ctx, workspace(ctx).ID, in.Body.Days); err != nil {
				return nil, a.failed(ctx, err)
			}
			return &retentionOutput{in.Body}, nil
		})
}

// keptNoLonger reports that lists would be kept for longer than the installation allows.
func keptNoLonger(days, most int, field string) error {
	if most > 0 && (days == 0 || days > most) {
		return huma.Error422UnprocessableEntity(fmt.Sprintf("This installation keeps lists for at most %d days.", most), &huma.ErrorDetail{Location: field, Message: fmt.Sprintf("at most %d", most), Value: days})
	}
	return nil
}

// keptUntil tells when a list will be deleted whose workspace keeps lists so many days, and
// whose installation at most so many; nil: when somebody does. The last run's end is nil while
// it goes on, or where there is none.
func keptUntil(l store.List, days, most int, lastRun *time.Time) *time.Time {
	if l.KeepDays != nil {
		days = *l.KeepDays
	}
	if most > 0 && (days == 0 || days > most) {
		days = most
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

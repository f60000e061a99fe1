package work

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/core/rule"
	"varnet/internal/allowance"
	"varnet/internal/store"
)

// ClockArgs names a run whose times are to be looked at. Each look sets the next
// one, for when the run's schedule window changes.
type ClockArgs struct {
	Run int64 `json:"run"`
}

// Kind names the job.
func (ClockArgs) Kind() string { return "clock" }

type clockWorker struct {
	river.WorkerDefaults[ClockArgs]
	engine *Engine
}

func (w *clockWorker) Work(ctx context.Context, job *river.Job[ClockArgs]) error {
	e := w.engine
	run, err := e.Store.RunByID(ctx, job.Args.Run)
	if errors.Is(err, store.ErrNotFound) || err == nil && run.FinishedAt != nil {
		return nil
	}
	if err != nil {
		return err
	}
	window, until, err := run.Rule().At(time.Now())
	if err != nil {
		return err
	}
	switch {
	case window == rule.Over:
		return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
			return inOrder(
				func() error { return s.StopRun(ctx, run.WorkspaceID, run.ID) },
				func() error { return e.runHappened(ctx, s, tx, run.ID, event.Event{Code: event.RunStopped}) },
			)
		})
	case window == rule.Early && run.State == store.Running:
		err = e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
			return inOrder(
				func() error { return s.PauseRun(ctx, run.WorkspaceID, run.ID, &until) },
				func() error {
					return e.runHappened(ctx, s, tx, run.ID, event.Event{Code: event.RunPaused, Data: event.Data{Until: &until}})
				},
			)
		})
	case window == rule.Open && run.State == store.Drafted:
		_, err = e.BeginRun(ctx, run.ID)
		return err // which sets the clock anew
	case window == rule.Open && run.State == store.Paused && run.ResumeAt != nil:
		err = e.ResumeRun(ctx, run.WorkspaceID, run.ID)
	}
	if err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(_ *store.Store, tx pgx.Tx) error {
		if _, err := river.JobCompleteTx[*riverpgx](ctx, tx, job); err != nil {
			return err
		}
		return e.setClock(ctx, tx, run.ID, until)
	})
}

// setClock sees to it that a run's times are looked at; never, at the zero time.
func (e *Engine) setClock(ctx context.Context, tx pgx.Tx, run int64, at time.Time) error {
	if at.IsZero() {
		return nil
	}
	_, err := e.client.InsertTx(ctx, tx, ClockArgs{Run: run}, &river.InsertOpts{ScheduledAt: at})
	return err
}

// StartRun records a run and sets its planning going, or leaves it drafted until
// its times let it begin. Times that cannot be are an error. Where an allowance is kept, what
// the run may cost at most is set aside, on the account of by; that of a sample is free.
func (e *Engine) StartRun(ctx context.Context, r *store.Run, by store.By) error {
	until, err := e.firstTimes(r)
	if err != nil {
		return err
	}
	order, err := e.orderOf(ctx, *r, by)
	if err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error { return e.startRun(ctx, s, tx, r, until, order) })
}

// firstTimes settles whether a run begins now, and when its times are looked at next.
func (e *Engine) firstTimes(r *store.Run) (until time.Time, err error) {
	e.absences.forget(r.WorkspaceID)
	now := time.Now()
	if r.BeginAt.Before(now) {
		r.BeginAt = now
	}
	window, until, err := r.Rule().At(now)
	if err != nil {
		return until, err
	}
	if r.State = store.Running; window == rule.Early {
		r.State, r.BeginAt = store.Drafted, until
	}
	return until, nil
}

// startRun records a run whose first times were looked at, and sets it going.
func (e *Engine) startRun(ctx context.Context, s *store.Store, tx pgx.Tx, r *store.Run, until time.Time, order *allowance.Order) error {
	return inOrder(
		func() error { return s.CreateRun(ctx, r) },
		func() error {
			if order == nil {
				return nil
			}
			order.Run = r.ID
			_, err := e.Allowance.Reserve(ctx, s, tx, *order)
			return err
		},
		func() error { return e.setClock(ctx, tx, r.ID, until) },
		func() error {
			if r.State == store.Drafted {
				return nil
			}
			return e.insertPlan(ctx, s, tx, r.WorkspaceID, r.ID)
		},
	)
}

// BeginRun lets a drafted run begin now, whatever its times say; ok is false
// when it is none.
func (e *Engine) BeginRun(ctx context.Context, id int64) (ok bool, err error) {
	err = e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if ok, err = s.BeginRun(ctx, id); err != nil || !ok {
			return err
		}
		run, err := s.RunByID(ctx, id)
		if err != nil {
			return err
		}
		_, until, err := run.Rule().At(run.BeginAt)
		if err != nil {
			return err
		}
		if err := e.insertPlan(ctx, s, tx, run.WorkspaceID, id); err != nil {
			return err
		}
		return e.setClock(ctx, tx, id, until)
	})
	return ok, err
}

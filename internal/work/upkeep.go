package work

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/internal/store"
)

// Jobs of upkeep have a queue of their own: nobody waits for them.
const (
	queueUpkeep = "upkeep"
	keepers     = 2
)

// FoldArgs names a run whose latest results are to be folded.
type FoldArgs struct {
	Run int64 `json:"run"`
}

// Kind names the job.
func (FoldArgs) Kind() string { return "fold" }

// InsertOpts makes it one job a run.
func (FoldArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueUpkeep, UniqueOpts: unique}
}

type foldWorker struct {
	river.WorkerDefaults[FoldArgs]
	engine *Engine
}

// Timeout leaves a run of a release before, none of which is folded, its time.
func (w *foldWorker) Timeout(*river.Job[FoldArgs]) time.Duration { return 10 * time.Minute }

// Work folds a run of a large list; of a small one all results are read as they are.
func (w *foldWorker) Work(ctx context.Context, job *river.Job[FoldArgs]) error {
	s := w.engine.Store
	run, err := s.RunByID(ctx, job.Args.Run)
	if err != nil {
		return notThere(err)
	}
	l, err := s.List(ctx, run.WorkspaceID, run.ListID)
	if err != nil || l.Addresses <= store.FoldFrom || run.Sample != nil {
		return notThere(err)
	}
	for more := true; more && err == nil; {
		more, err = s.Fold(ctx, run.ID)
	}
	return err
}

// foldSoon has a run folded that goes on.
func (e *Engine) foldSoon(ctx context.Context, run int64) error {
	return e.Store.InTx(ctx, func(_ *store.Store, tx pgx.Tx) error { return e.insert(ctx, tx, FoldArgs{Run: run}) })
}

// foldRest has runs folded that are at their end and are not.
func (e *Engine) foldRest(ctx context.Context) error {
	runs, err := e.Store.Unfolded(ctx)
	for _, run := range runs {
		err = errors.Join(err, e.foldSoon(ctx, run))
	}
	return err
}

// SweepArgs is the job that removes the bulk of lists and runs that are deleted.
type SweepArgs struct{}

// Kind names the job.
func (SweepArgs) Kind() string { return "sweep" }

// InsertOpts has one at a time.
func (SweepArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueUpkeep, UniqueOpts: unique}
}

type sweepWorker struct {
	river.WorkerDefaults[SweepArgs]
	engine *Engine
}

// Timeout leaves many large lists their time; where it is broken off, another goes on.
func (w *sweepWorker) Timeout(*river.Job[SweepArgs]) time.Duration { return time.Hour }

func (w *sweepWorker) Work(ctx context.Context, _ *river.Job[SweepArgs]) error {
	return w.engine.Store.SweepAll(ctx)
}

// DeleteList deletes a list, and has its bulk removed soon.
func (e *Engine) DeleteList(ctx context.Context, workspace, id int64) error {
	if err := e.Store.DeleteList(ctx, workspace, id); err != nil {
		return err
	}
	if err := e.sweep(ctx); err != nil {
		e.Log.Warn("the bulk of a deleted list is removed later", "list", id, "err", err)
	}
	return nil
}

// sweep has the bulk of what is deleted removed, where there is any.
func (e *Engine) sweep(ctx context.Context) error {
	if has, err := e.Store.HasRemains(ctx); err != nil || !has {
		return err
	}
	return e.Store.InTx(ctx, func(_ *store.Store, tx pgx.Tx) error { return e.insert(ctx, tx, SweepArgs{}) })
}

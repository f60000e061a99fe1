package work

import (
	"context"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/sheet"
	"varnet/internal/store"
)

// ActivityArgs names a list whose columns hold days of activity.
type ActivityArgs struct {
	Workspace int64 `json:"workspace"`
	List      int64 `json:"list"`
}

// Kind names the job.
func (ActivityArgs) Kind() string { return "activity" }

// InsertOpts makes it one job a list.
func (ActivityArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueOdds, UniqueOpts: unique}
}

type activityWorker struct {
	river.WorkerDefaults[ActivityArgs]
	engine *Engine
}

// Timeout leaves a large list its time.
func (w *activityWorker) Timeout(*river.Job[ActivityArgs]) time.Duration { return 10 * time.Minute }

func (w *activityWorker) Work(ctx context.Context, job *river.Job[ActivityArgs]) error {
	l, err := w.engine.Store.List(ctx, job.Args.Workspace, job.Args.List)
	if err != nil {
		return notThere(err)
	}
	if err := w.engine.Activity.ReadList(ctx, l); err != nil {
		return err
	}
	return w.engine.Store.TellList(ctx, l)
}

// readActivity has the days read that the columns of a list hold.
func (e *Engine) readActivity(ctx context.Context, tx pgx.Tx, l store.List) error {
	if !slices.ContainsFunc(l.Meanings, func(m sheet.Meaning) bool { return m.Holds == sheet.Activity }) {
		return nil
	}
	return e.insert(ctx, tx, ActivityArgs{l.WorkspaceID, l.ID})
}

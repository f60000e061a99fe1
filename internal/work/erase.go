package work

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/internal/store"
)

// EraseArgs names a request by which an address is to be erased.
type EraseArgs struct {
	Request int64 `json:"request"`
}

// Kind names the job.
func (EraseArgs) Kind() string { return "erase" }

// InsertOpts makes it one job a request.
func (EraseArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{UniqueOpts: unique} }

type eraseWorker struct {
	river.WorkerDefaults[EraseArgs]
	engine *Engine
}

// Timeout leaves large workspaces, whose lists are all read, their time.
func (w *eraseWorker) Timeout(*river.Job[EraseArgs]) time.Duration { return time.Hour }

// eraseAgain is after how long an erasure looks again for what was in hand.
const eraseAgain = 2 * time.Second

// Work erases the address, and comes again as long as some of it is in hand.
func (w *eraseWorker) Work(ctx context.Context, job *river.Job[EraseArgs]) error {
	again, err := w.engine.Rights.Erase(ctx, job.Args.Request)
	if err == nil && again {
		return river.JobSnooze(eraseAgain)
	}
	return notThere(err)
}

// OrderErasure records what a person wants of their address, and has an erasure begin.
func (e *Engine) OrderErasure(ctx context.Context, workspace int64, typed, kind, byWhom string) (store.Request, error) {
	return e.Rights.Order(ctx, workspace, typed, kind, byWhom, func(tx pgx.Tx, id int64) error { return e.insert(ctx, tx, EraseArgs{id}) })
}

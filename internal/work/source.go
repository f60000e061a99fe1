package work

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/internal/bounce"
	"varnet/internal/store"
)

// SourceArgs names a mailbox that is to be read.
type SourceArgs struct {
	Source int64 `json:"source"`
}

// Kind names the job.
func (SourceArgs) Kind() string { return "source" }

// InsertOpts makes it one job a mailbox.
func (SourceArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueSource, UniqueOpts: unique}
}

const (
	queueSource = "source"
	reading     = 8   // mailboxes that are read at once
	lookedAt    = 100 // at a look
)

type sourceWorker struct {
	river.WorkerDefaults[SourceArgs]
	engine *Engine
}

// Timeout leaves a large mailbox its time.
func (w *sourceWorker) Timeout(*river.Job[SourceArgs]) time.Duration { return 5 * time.Minute }

func (w *sourceWorker) Work(ctx context.Context, job *river.Job[SourceArgs]) error {
	b, err := w.engine.Store.BounceSourceAtWork(ctx, job.Args.Source)
	if err != nil || b.Kind != store.SourceMailbox {
		return notThere(err)
	}
	if _, err = w.engine.Sources.Look(ctx, b); errors.Is(err, bounce.ErrLooking) {
		return nil
	}
	return notThere(err)
}

// readSources has the mailboxes read whose time has come.
func (e *Engine) readSources(ctx context.Context) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		now := e.Clock.Now()
		due, err := s.DueBounceSources(ctx, now.Add(-bounce.LookEvery), now.Add(-bounce.LookAfterFail), lookedAt)
		for _, b := range due {
			if err == nil {
				err = e.insert(ctx, tx, SourceArgs{b.ID})
			}
		}
		return err
	})
}

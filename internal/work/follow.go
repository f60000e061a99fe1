package work

import (
	"context"
	"errors"
	"time"

	"github.com/riverqueue/river"

	"varnet/internal/follow"
	"varnet/internal/store"
)

// FollowArgs is the job that reads the catalogues that workspaces follow.
type FollowArgs struct{}

// Kind names the job.
func (FollowArgs) Kind() string { return "follow" }

// When followed catalogues are read.
const (
	followLook    = time.Hour      // how often it is looked for sources that are due
	followEvery   = 24 * time.Hour // how often each is read
	followAtATime = 50
)

type followWorker struct {
	river.WorkerDefaults[FollowArgs]
	engine *Engine
}

// Timeout leaves all of them their time.
func (w *followWorker) Timeout(*river.Job[FollowArgs]) time.Duration { return 10 * time.Minute }

func (w *followWorker) Work(ctx context.Context, _ *river.Job[FollowArgs]) error {
	due, err := w.engine.Store.DueCatalogueSources(ctx, time.Now().Add(-followEvery), followAtATime)
	if err != nil {
		return err
	}
	for _, s := range due {
		if err := w.engine.ReadCatalogue(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

func following() *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(followLook),
		func() (river.JobArgs, *river.InsertOpts) { return FollowArgs{}, nil }, &river.PeriodicJobOpts{RunOnStart: true})
}

// ReadCatalogue reads a source now and records what it says, or why it could not be read;
// only the database fails it.
func (e *Engine) ReadCatalogue(ctx context.Context, s store.CatalogueSource) error {
	names, etag, err := e.Follow.Read(ctx, s.URL, s.ETag, s.Kind)
	switch {
	case errors.Is(err, follow.ErrUnchanged):
		return e.Store.SaveCatalogueProblem(ctx, s.ID, "", time.Now())
	case err != nil:
		return e.Store.SaveCatalogueProblem(ctx, s.ID, err.Error(), time.Now())
	}
	return e.Store.SaveCatalogueSource(ctx, s.ID, names, etag, time.Now())
}

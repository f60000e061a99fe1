package work

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/internal/store"
)

// OddsArgs has a workspace learn from its mailings. Anew: from what it knows, though nothing came
// since.
type OddsArgs struct {
	Workspace int64 `json:"workspace"`
	Anew      bool  `json:"anew,omitempty"`
}

// Kind names the job.
func (OddsArgs) Kind() string { return "odds" }

// InsertOpts has a workspace learn once at a time.
func (OddsArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueOdds, UniqueOpts: unique}
}

// RestateArgs names a run whose results are to get the odds that were learnt.
type RestateArgs struct {
	Run int64 `json:"run"`
}

// Kind names the job.
func (RestateArgs) Kind() string { return "restate" }

// InsertOpts makes it one job a run.
func (RestateArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueOdds, UniqueOpts: unique}
}

const (
	queueOdds = "odds"
	learners  = 2
)

type oddsWorker struct {
	river.WorkerDefaults[OddsArgs]
	engine *Engine
}

// Timeout leaves a large mailing its time.
func (w *oddsWorker) Timeout(*river.Job[OddsArgs]) time.Duration { return 10 * time.Minute }

// Work learns, and has the results of the latest runs get their odds anew.
func (w *oddsWorker) Work(ctx context.Context, job *river.Job[OddsArgs]) error {
	e := w.engine
	learnt, err := e.Odds.Learn(ctx, job.Args.Workspace, job.Args.Anew)
	if err != nil || !learnt {
		return err
	}
	runs, err := e.Store.LatestRuns(ctx, job.Args.Workspace)
	if err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(_ *store.Store, tx pgx.Tx) error {
		for _, run := range runs {
			if err := e.insert(ctx, tx, RestateArgs{run}); err != nil {
				return err
			}
		}
		return nil
	})
}

type restateWorker struct {
	river.WorkerDefaults[RestateArgs]
	engine *Engine
}

// Timeout leaves a large run its time.
func (w *restateWorker) Timeout(*river.Job[RestateArgs]) time.Duration { return 10 * time.Minute }

func (w *restateWorker) Work(ctx context.Context, job *river.Job[RestateArgs]) error {
	e := w.engine
	run, err := e.Store.RunByID(ctx, job.Args.Run)
	if err != nil || run.FinishedAt == nil {
		return notThere(err)
	}
	l, err := e.Store.List(ctx, run.WorkspaceID, run.ListID)
	if err != nil {
		return notThere(err)
	}
	return e.Odds.Restate(ctx, run, l)
}

// LearnAnew has a workspace learn from what it knows, though nothing came since.
func (e *Engine) LearnAnew(ctx context.Context, workspace int64) error {
	return e.Store.InTx(ctx, func(_ *store.Store, tx pgx.Tx) error {
		return e.insert(ctx, tx, OddsArgs{workspace, true})
	})
}

// learnDue has the workspaces learn that have mailings to learn from.
func (e *Engine) learnDue(ctx context.Context) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		due, err := s.LearnersDue(ctx)
		for _, workspace := range due {
			if err == nil {
				err = e.insert(ctx, tx, OddsArgs{Workspace: workspace})
			}
		}
		return err
	})
}

// oddsOf returns the results of a run that have other odds by what its workspace has learnt.
func (e *Engine) oddsOf(ctx context.Context, run store.Run) ([]store.Concluded, error) {
	if run.Depth != store.DepthMailbox || run.Sample != nil {
		return nil, nil
	}
	l, err := e.Store.List(ctx, run.WorkspaceID, run.ListID)
	if err != nil {
		return nil, err
	}
	return e.Odds.Score(ctx, run, l)
}

// SetMeanings records what the columns of a list hold; the odds of its last run rest on the names.
func (e *Engine) SetMeanings(ctx context.Context, l store.List) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.SetMeanings(ctx, l.WorkspaceID, l.ID, l.Meanings); err != nil {
			return err
		}
		if err := e.readActivity(ctx, tx, l); err != nil {
			return err
		}
		runs, err := s.LastRuns(ctx, l.WorkspaceID, []int64{l.ID})
		if err != nil {
			return err
		}
		if run, ok := runs[l.ID]; ok && run.FinishedAt != nil {
			return e.insert(ctx, tx, RestateArgs{run.ID})
		}
		return nil
	})
}

package work

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/internal/account"
	"varnet/internal/store"
)

// RetentionArgs is the job that deletes lists whose time has come, and sees to it
// that what must outlive them is remembered.
type RetentionArgs struct{}

// Kind names the job.
func (RetentionArgs) Kind() string { return "retention" }

// retentionEvery is how often it is looked for them.
const retentionEvery = time.Hour

// Lists are deleted some at a time, for as long at a look; the next one goes on.
const (
	atATime     = 20
	deletingFor = 5 * time.Minute
)

type retentionWorker struct {
	river.WorkerDefaults[RetentionArgs]
	engine *Engine
}

// Timeout leaves a large list the time that its deletion takes.
func (w *retentionWorker) Timeout(*river.Job[RetentionArgs]) time.Duration { return 10 * time.Minute }

// Work takes one step after the other, whatever came of those before.
func (w *retentionWorker) Work(ctx context.Context, _ *river.Job[RetentionArgs]) error {
	s := w.engine.Store
	return takeAll(ctx, 1, s.RememberAbsent, s.KeyAbsences, s.ForgetUploads, s.ForgetLinks, s.ForgetMailings, s.ForgetHabits, s.ForgetForms, s.ForgetAnswers,
		s.ForgetPersonal, s.DeleteEnded, s.ForgetEvents, w.engine.foldRest, w.forgetAudit, w.engine.tellEnds, w.deleteDue)
}

// deleteDue deletes lists whose time has come.
func (w *retentionWorker) deleteDue(ctx context.Context) error {
	for begun := time.Now(); time.Since(begun) < deletingFor; {
		due, err := w.engine.Store.DueLists(ctx, atATime)
		if err != nil || len(due) == 0 {
			return err
		}
		for _, l := range due {
			if err := w.engine.deleteList(ctx, l); err != nil {
				return err
			}
		}
	}
	return nil
}

// deleteList deletes a list whose retention has ended, and writes that down.
func (e *Engine) deleteList(ctx context.Context, l store.DueList) error {
	if err := e.Store.DeleteList(ctx, l.WorkspaceID, l.ID); err != nil {
		return err
	}
	e.Log.Info("a list was deleted: its retention has ended", "list", l.ID)
	return account.Audit(ctx, e.Store, account.Entry{Workspace: l.WorkspaceID, Job: RetentionArgs{}.Kind(), Action: "delete-list", Thing: fmt.Sprintf("lists/%d", l.ID), Result: account.DoneResult})
}

// tellBefore is how long before its end it is told that a list or key ends.
const tellBefore = 7 * 24 * time.Hour

// tellEnds tells which lists and keys end soon, each once.
func (e *Engine) tellEnds(ctx context.Context) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		lists, err := s.EndingLists(ctx, tellBefore, 100*atATime)
		if err != nil {
			return err
		}
		for _, l := range lists {
			if err := e.Happened(ctx, s, tx, event.Event{Code: event.RetentionNear, Workspace: l.WorkspaceID, Data: event.Data{ListID: l.ID, List: l.Name, Until: &l.EndsAt},
				Says: fmt.Sprintf("The list “%s”, its runs and their results will be deleted on %s: its retention ends. Export what you need, or keep it longer.", l.Name, l.EndsAt.UTC().Format("2 January 2006"))}); err != nil {
				return err
			}
		}
		keys, err := s.ExpiringKeys(ctx, tellBefore)
		if err != nil {
			return err
		}
		for _, k := range keys {
			if err := e.Happened(ctx, s, tx, event.Event{Code: event.KeyExpiring, Workspace: k.WorkspaceID, Data: event.Data{Key: k.Name, Until: &k.ExpiresAt},
				Says: fmt.Sprintf("The key “%s” expires on %s. Programs that use it are refused from then on; rotate it before.", k.Name, k.ExpiresAt.UTC().Format("2 January 2006, 15:04 MST"))}); err != nil {
				return err
			}
		}
		return nil
	})
}

// forgetAudit deletes what the audit trail has kept for its time, and writes that down.
func (w *retentionWorker) forgetAudit(ctx context.Context) error {
	n, err := w.engine.Store.ForgetAudit(ctx)
	if err != nil || n == 0 {
		return err
	}
	return account.Audit(ctx, w.engine.Store, account.Entry{Job: RetentionArgs{}.Kind(), Action: "forget-audit", Result: account.DoneResult, Detail: fmt.Sprintf("%d entries whose retention has ended", n)})
}

// retention looks for lists that are due at the start and every hour.
func retention() *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(retentionEvery),
		func() (river.JobArgs, *river.InsertOpts) { return RetentionArgs{}, nil }, &river.PeriodicJobOpts{RunOnStart: true})
}

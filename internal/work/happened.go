package work

import (
	"cmp"
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/internal/intake"
	"varnet/internal/outbox"
	"varnet/internal/store"
	"varnet/internal/summary"
)

// TellArgs names an event that is to be told.
type TellArgs struct {
	Seq int64 `json:"seq"`
}

// Kind names the job.
func (TellArgs) Kind() string { return "tell" }

// Happened records an event with the transaction that makes it so; it is told when that is
// committed.
func (e *Engine) Happened(ctx context.Context, s *store.Store, tx pgx.Tx, ev event.Event) error {
	seq, err := s.AddEvent(ctx, ev)
	if err != nil {
		return err
	}
	return e.insert(ctx, tx, TellArgs{seq})
}

// imported tells that a file was imported.
func (e *Engine) imported(ctx context.Context, s *store.Store, tx pgx.Tx, l store.List, f intake.File) error {
	if err := e.readActivity(ctx, tx, l); err != nil {
		return err
	}
	return e.Happened(ctx, s, tx, event.Event{Code: event.ImportDone, Workspace: l.WorkspaceID, Says: summary.List(l), Quiet: f.Quiet, Data: event.Data{ListID: l.ID, List: l.Name, File: l.FileName}})
}

// FileRefused tells that a file could not be imported, and why.
func (e *Engine) FileRefused(ctx context.Context, workspace int64, file, why string) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		return e.Happened(ctx, s, tx, event.Event{Code: event.ImportRefused, Workspace: workspace, Says: why, Data: event.Data{File: cmp.Or(file, "a file"), Words: why}})
	})
}

type tellWorker struct {
	river.WorkerDefaults[TellArgs]
	engine *Engine
}

// Work settles what becomes of an event, all of it in one transaction: however often it is
// begun, everything becomes of it once.
func (w *tellWorker) Work(ctx context.Context, job *river.Job[TellArgs]) error {
	e := w.engine
	ev, err := e.Store.UntoldEvent(ctx, job.Args.Seq)
	if errors.Is(err, store.ErrNotFound) {
		return nil // told, or gone with its workspace
	}
	if err != nil {
		return err
	}
	earlier, err := e.Store.EarlierUntold(ctx, ev)
	if err != nil {
		return err
	}
	if earlier {
		return river.JobSnooze(time.Second)
	}
	says, err := e.Outbox.Says(ctx, ev)
	if err != nil {
		return err
	}
	due, err := e.Outbox.Due(ctx, ev)
	if err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		ev := ev
		if ev.Seq, err = s.TellEvent(ctx, ev.Seq, says); err != nil {
			if errors.Is(err, store.ErrNotFound) {
				err = nil
			}
			return err
		}
		if err := e.sendOn(ctx, s, tx, ev, due); err != nil {
			return err
		}
		_, err := river.JobCompleteTx[*riverpgx](ctx, tx, job)
		return err
	})
}

// sendOn sets the letters and calls going that become of an event.
func (e *Engine) sendOn(ctx context.Context, s *store.Store, tx pgx.Tx, ev store.Event, due outbox.Due) error {
	for _, person := range due.AtOnce {
		if err := e.insert(ctx, tx, EventLetterArgs{Seq: ev.Seq, Person: person}); err != nil {
			return err
		}
	}
	for person, at := range due.Daily {
		if err := s.AddDaily(ctx, person, ev.Seq, at); err != nil {
			return err
		}
	}
	for _, w := range due.Webhooks {
		if err := s.AddDelivery(ctx, w, ev); err != nil {
			return err
		}
		if err := e.insert(ctx, tx, DeliverArgs{Webhook: w, Thing: ev.Thing}); err != nil {
			return err
		}
	}
	return nil
}

// sendDaily sets the daily letters going that are due.
func (e *Engine) sendDaily(ctx context.Context) error {
	for {
		err := e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
			person, seqs, err := s.TakeDaily(ctx, e.Outbox.Clock.Now())
			if err != nil {
				return err
			}
			return e.insert(ctx, tx, EventLetterArgs{Person: person, Daily: seqs})
		})
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

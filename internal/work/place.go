package work

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/core/sheet"
	"varnet/internal/connect"
	"varnet/internal/intake"
	"varnet/internal/store"
)

const (
	queueConnect = "connect"
	connecting   = 16              // how many imports and write-backs go on at once
	connectEach  = 3               // of one workspace
	connectTime  = time.Hour       // for a job, where a place gives nothing to go on from
	connectSlice = time.Minute     // after which another job goes on
	placeWait    = 5 * time.Second // until a place is tried again that was out of order
	patience     = 24 * time.Hour  // for how long that is done
)

// atPlace works at the place of a connection, of which only so many of a workspace are worked at
// once; fail ends it with a sentence.
func (e *Engine) atPlace(ctx context.Context, kept store.Connection, begun time.Time, work func(context.Context) error, fail func(context.Context, string) error) error {
	leave, ok := e.connectingAt.enter(kept.WorkspaceID, connectEach)
	if !ok {
		return river.JobSnooze(notYet)
	}
	defer leave()
	return e.placeSays(ctx, kept, begun, work(ctx), func(why string) error { return fail(ctx, why) })
}

// errPause has a job go on in a successor.
var errPause = errors.New("this goes on in another job")

// placeSays does with an error of a job what it is: one that passes is waited for, others end it
// with a sentence, and a connection that is broken is told of.
func (e *Engine) placeSays(ctx context.Context, kept store.Connection, begun time.Time, err error, fail func(why string) error) error {
	var trouble *connect.Trouble
	var inFile *sheet.Error
	var full *intake.TooManyRows
	switch {
	case err == nil:
		return nil
	case errors.Is(err, errPause):
		return river.JobSnooze(0)
	case errors.Is(err, store.ErrNotFound): // deleted meanwhile, or in other hands
		return nil
	case connect.Passes(err) && time.Since(begun) < patience:
		return river.JobSnooze(placeWait)
	case errors.As(err, &trouble), errors.As(err, &inFile), errors.As(err, &full):
		if err := e.NoteBroken(ctx, kept, err); err != nil {
			return err
		}
		return fail(err.Error())
	}
	return err
}

// NoteBroken records that a connection does not work, if that is what a place's error says, and
// tells of it once.
func (e *Engine) NoteBroken(ctx context.Context, kept store.Connection, err error) error {
	if !connect.IsBroken(err) {
		return nil
	}
	why := err.Error()
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.BreakConnection(ctx, kept.ID, why); err != nil {
			return notThere(err)
		}
		return e.Happened(ctx, s, tx, event.Event{Code: event.ConnectionBroken, Workspace: kept.WorkspaceID, Says: why,
			Data: event.Data{ConnectionID: kept.ID, Connection: kept.Name, Words: why}})
	})
}

// goOnConnected sets imports and write-backs going on that have no job: one that was wanted at the
// moment when another came to its end.
func (e *Engine) goOnConnected(ctx context.Context) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		imports, writeBacks, err := s.StandingConnected(ctx)
		if err != nil {
			return err
		}
		var jobs []river.JobArgs
		for _, id := range imports {
			jobs = append(jobs, CollectArgs{id})
		}
		for _, id := range writeBacks {
			jobs = append(jobs, WriteBackArgs{id})
		}
		if len(jobs) == 0 {
			return nil
		}
		return e.insert(ctx, tx, jobs...)
	})
}

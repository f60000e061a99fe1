package work

import (
	"context"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/internal/bounce"
	"varnet/internal/store"
)

// finishDone finishes the run, or all runs (0), of which nothing is left.
func (e *Engine) finishDone(ctx context.Context, run int64) error {
	done, err := e.Store.Done(ctx, run)
	if err != nil {
		return err
	}
	for _, id := range done {
		if err := e.finish(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// finish finishes a run. A domain may have been asked on several lanes at once, and on
// one of them have been found to answer by chance: then what it said on the others, or
// before, is asked again first.
func (e *Engine) finish(ctx context.Context, id int64) error {
	domains, err := e.Store.DoubtedDomains(ctx, id)
	if err != nil {
		return err
	}
	if len(domains) > 0 {
		if again, err := e.askDoubted(ctx, id, domains); err != nil || again {
			return err
		}
	}
	run, err := e.Store.RunByID(ctx, id)
	if err != nil {
		return err
	}
	results, err := e.outcomesOf(ctx, run)
	if err != nil {
		return err
	}
	restated, err := e.oddsOf(ctx, run)
	if err != nil {
		return err
	}
	defer e.gotOn.ended(id)
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		finished, err := s.Finish(ctx, id)
		if err != nil || !finished {
			return err
		}
		if err := e.insert(ctx, tx, FoldArgs{Run: id}); err != nil {
			return err
		}
		if err := s.AddOutcomes(ctx, id, results); err != nil {
			return err
		}
		if err := s.Restate(ctx, id, restated); err != nil {
			return err
		}
		if err := e.Allowance.CloseRun(ctx, s, tx, id); err != nil {
			return err
		}
		return e.tellFinished(ctx, s, tx, id)
	})
}

// outcomesOf returns the results of a run that messages sent to its addresses change: what
// hosts said stays in the evidence of the run, and what became of a real message stands
// over it.
func (e *Engine) outcomesOf(ctx context.Context, run store.Run) ([]store.Concluded, error) {
	if run.Depth != store.DepthMailbox {
		return nil, nil
	}
	results, err := bounce.Conclude(ctx, e.Store, run, e.Clock.Now())
	if err != nil {
		return nil, err
	}
	return results, e.Store.KnowVerdicts(ctx, results)
}

// tellFinished tells that a run is finished: of one of a routine the time goes on that waits for
// it, which tells it itself.
func (e *Engine) tellFinished(ctx context.Context, s *store.Store, tx pgx.Tx, run int64) error {
	time, err := s.TimeOfRun(ctx, run)
	if err != nil {
		return err
	}
	if err := e.runHappened(ctx, s, tx, run, event.Event{Code: event.RunFinished, Quiet: time != 0}); err != nil || time == 0 {
		return err
	}
	return e.insert(ctx, tx, RoutineArgs{Time: time})
}

// runHappened records an event about a run, which it names; of one of a sample nobody is told.
func (e *Engine) runHappened(ctx context.Context, s *store.Store, tx pgx.Tx, id int64, ev event.Event) error {
	run, err := s.RunByID(ctx, id)
	if err != nil || run.Sample != nil {
		return err
	}
	l, err := s.List(ctx, run.WorkspaceID, run.ListID)
	if err != nil {
		return err
	}
	ev.Workspace, ev.Data.RunID, ev.Data.ListID, ev.Data.List = run.WorkspaceID, run.ID, l.ID, l.Name
	return e.Happened(ctx, s, tx, ev)
}

// askDoubted asks again about what the domains' answers had concluded; false: nothing.
func (e *Engine) askDoubted(ctx context.Context, id int64, domains []string) (again bool, err error) {
	run, err := e.Store.RunByID(ctx, id)
	if err != nil {
		return false, err
	}
	all, err := e.Store.Verdicts(ctx)
	if err != nil {
		return false, err
	}
	var believed []int32
	for number, v := range all {
		switch v.Cause {
		case finding.MailboxAccepted, finding.MailboxAnyAccepted, finding.MailboxAbsent:
			believed = append(believed, number)
		}
	}
	err = e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		n, err := s.AskDoubted(ctx, run, domains, believed, pace.Unresolved, pace.ParcelSize)
		if again = n > 0; err != nil || !again {
			return err
		}
		return e.insert(ctx, tx, LaneArgs{Key: pace.Unresolved})
	})
	return again, err
}

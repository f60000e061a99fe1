package work

import (
	"context"

	"github.com/jackc/pgx/v5"

	"varnet/core/pace"
	"varnet/internal/store"
	"varnet/internal/store/pack"
)

const (
	// resolveAgain is how many more rounds DNS gets.
	resolveAgain = 2
)

// AskAgain opens a finished run again for the addresses with some verdicts, or
// only for some of these unless only is nil, as another round of the same run: their domains are looked up anew, and so on
// from there. Their results stand until they are replaced. It returns how many
// they are. What it may cost at most is set aside on the account of by.
func (e *Engine) AskAgain(ctx context.Context, run store.Run, verdicts, only []int32, by store.By) (addresses int64, err error) {
	e.absences.forget(run.WorkspaceID)
	err = e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if addresses, err = s.AskAgain(ctx, run, verdicts, only, pace.Unresolved, pace.ParcelSize); err != nil {
			return err
		}
		if err := e.reserveAgain(ctx, s, tx, run, by); err != nil {
			return err
		}
		return e.insert(ctx, tx, LaneArgs{Key: pace.Unresolved})
	})
	if err == nil {
		err = e.finishDone(ctx, run.ID) // there may be none
	}
	return addresses, err
}

// resolveParcel asks DNS again about the domains of a parcel and
// sorts its addresses anew.
func (e *Engine) resolveParcel(ctx context.Context, lane LaneArgs, p *store.Parcel) error {
	run, err := e.Store.RunByID(ctx, p.RunID)
	if err != nil {
		return err
	}
	b := &batch{run: run, round: p.Round, again: p.Again}
	if err := e.sort(ctx, b, store.DomainsOf(p.Questions), p.Questions); err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		ok, err := s.MarkDone(ctx, p.ID, lane.Lane, pack.ParcelRecord{})
		if err != nil || !ok {
			return err
		}
		return inOrder(
			func() error { return s.ReplaceRunDomains(ctx, run.ID, b.runDomains()) },
			func() error { return e.recordBatch(ctx, s, tx, b) },
		)
	})
}

package work

import (
	"context"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/estimate"
	"varnet/core/event"
	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// Estimated records the quick estimate of a list, and tells that it is there.
func (e *Engine) Estimated(ctx context.Context, l store.List, made contract.Estimate) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.SaveEstimate(ctx, l.ID, made); err != nil {
			return err
		}
		return e.Happened(ctx, s, tx, event.Event{Code: event.EstimateDone, Workspace: l.WorkspaceID, Says: made.Sentence, Data: event.Data{ListID: l.ID, List: l.Name}})
	})
}

// estimateTime is how long the hosts of a sample have to answer.
const estimateTime = 25 * time.Second

// Sample asks about a sample of a list's addresses, as a run of its own that
// keeps the pace of all others, and waits for it. What did not answer in time
// is left. A run of the list takes the results over.
func (e *Engine) Sample(ctx context.Context, l store.List) (store.Run, error) {
	r := store.Run{WorkspaceID: l.WorkspaceID, ListID: l.ID, Depth: store.DepthMailbox, Policy: policy.Careful()}
	places := estimate.Positions(rand.New(rand.NewPCG(uint64(l.ID), uint64(time.Now().UnixNano()))), l.Addresses, estimate.Size)
	var err error
	if r.Sample, err = e.Store.Places(ctx, l.ID, places); err != nil {
		return r, err
	}
	slices.Sort(r.Sample)
	if err := e.StartRun(ctx, &r, store.By{}); err != nil {
		return r, err
	}
	ctx, cancel := context.WithTimeout(ctx, estimateTime)
	defer cancel()
	for tick := time.NewTicker(200 * time.Millisecond); ; {
		now, err := e.Store.RunByID(ctx, r.ID)
		if err == nil && now.FinishedAt != nil {
			tick.Stop()
			return now, nil
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			tick.Stop()
			return r, e.Store.StopRun(context.WithoutCancel(ctx), l.WorkspaceID, r.ID)
		}
	}
}

package work

import (
	"context"
	"math/rand/v2"
	"slices"
	"time"

	"varnet/core/estimate"
	"varnet/core/policy"
	"varnet/internal/store"
)

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
	if err := e.StartRun(ctx, &r); err != nil {
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

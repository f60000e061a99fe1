package work

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"
)

// tellEvery is how often those who watch a run are told at the most that it got on.
const tellEvery = 300 * time.Millisecond

// gotOn collects the runs that got on, until that is told.
type gotOn struct {
	mu   sync.Mutex
	runs map[int64]bool
}

func (g *gotOn) add(run int64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.runs == nil {
		g.runs = map[int64]bool{}
	}
	g.runs[run] = true
}

func (g *gotOn) take() []int64 {
	g.mu.Lock()
	defer g.mu.Unlock()
	runs := slices.Collect(maps.Keys(g.runs))
	clear(g.runs)
	return runs
}

// tell tells which runs got on, until ctx ends. It is not told in the transactions that
// record results: a commit that notifies waits for all others that do.
func (e *Engine) tell(ctx context.Context) {
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		if runs := e.gotOn.take(); len(runs) > 0 {
			if err := e.Store.TellProgress(ctx, runs); err != nil && ctx.Err() == nil {
				e.Log.Debug("progress was not told", "err", err)
			}
		}
	}
}

package work

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"varnet/internal/store"
)

// tellEvery is how often those who watch a run are told at the most that it got on.
const tellEvery = 300 * time.Millisecond

// gotOn collects the runs that got on, until that is told.
type gotOn struct {
	mu   sync.Mutex
	runs map[int64]bool
	// recorded are how many results of each run were recorded here since it was to be folded,
	// and how many that takes the next time.
	recorded, until map[int64]int
}

// add adds a run of which results were recorded, so many; fold reports that they are many by now
// that are not folded: the more there were of the run before, the more.
func (g *gotOn) add(run int64, results int) (fold bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.runs == nil {
		g.runs, g.recorded, g.until = map[int64]bool{}, map[int64]int{}, map[int64]int{}
	}
	g.runs[run] = true
	if g.recorded[run] += results; g.recorded[run] < max(g.until[run], store.FoldFrom) {
		return false
	}
	g.until[run] = min(2*max(g.until[run], store.FoldFrom), mostUnfolded)
	g.recorded[run] = 0
	return true
}

// got takes down that a run got on by some results, which are folded once they are many.
func (e *Engine) got(ctx context.Context, run int64, results int) {
	if !e.gotOn.add(run, results) {
		return
	}
	if err := e.foldSoon(ctx, run); err != nil {
		e.Log.Warn("results are not folded yet; they are when the run is finished", "run", run, "err", err)
	}
}

// ended forgets a run.
func (g *gotOn) ended(run int64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.recorded, run)
	delete(g.until, run)
}

// mostUnfolded bounds how many results of a run a process leaves unfolded: they are held in memory
// while somebody looks at the run.
const mostUnfolded = 8 * store.FoldFrom

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

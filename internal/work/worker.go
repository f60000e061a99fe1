package work

import (
	"context"
	"crypto/rand"
	"maps"
	"os"
	"runtime/debug"
	"sync"
	"time"

	"varnet/core/probe"
	"varnet/internal/outbound"
	"varnet/internal/store"
)

// A worker sends a heartbeat every beat. One that was silent for so long is
// taken for lost: its parcels go to others well within a minute.
const (
	beat    = 3 * time.Second
	silence = outbound.Silence
)

// newWorker is this process as a worker.
func newWorker(c Config) store.Worker {
	name, err := os.Hostname()
	if err != nil {
		name = "unnamed host"
	}
	return store.Worker{ID: name + "-" + rand.Text()[:8], Name: name, Version: version(), Serves: c.Serves, Lanes: c.Lanes, Location: c.Location, Routes: map[string]int64{}, StartedAt: time.Now()}
}

// version is what this program was built from.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if ok {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && len(s.Value) > 7 {
				return s.Value[:7]
			}
		}
	}
	return "unknown"
}

// live sends heartbeats until ctx ends, removes lost workers, and
// comes to an end when it is told to.
func (e *Engine) live(ctx context.Context) {
	defer close(e.dead)
	for tick := time.NewTicker(beat); ; {
		e.self.Parcels, e.self.Routes = int(e.inHand.Load()), e.sessions.by()
		draining, err := e.Store.SeeWorker(ctx, e.self)
		switch {
		case ctx.Err() != nil:
			tick.Stop()
			return
		case err != nil:
			e.Log.Warn("the heartbeat could not be written", "err", err)
		case draining && !e.closing.Load():
			e.Log.Info("draining: what is in hand comes to its end, nothing new is taken")
			go func() {
				if err := e.stopWorking(context.WithoutCancel(ctx)); err != nil {
					e.Log.Warn("the work did not come to its end", "err", err)
				}
				close(e.Drained)
			}()
		}
		e.lookAfterOthers(ctx)
		select {
		case <-tick.C:
		case <-ctx.Done():
			tick.Stop()
			return
		}
	}
}

// lookAfterOthers removes workers that sent no heartbeat, and sets anew what waits where the
// clock was set back.
func (e *Engine) lookAfterOthers(ctx context.Context) {
	back, steady, err := e.Store.LookAtClock(ctx, silence)
	if back > 0 {
		e.Log.Warn("the database's clock was set back: what waits waits no longer for that", "by", back)
	}
	if err != nil || !steady {
		return
	}
	if err := e.takeOver(ctx); err != nil {
		e.Log.Warn("the work of locations without a worker was not looked at", "err", err)
	}
	if lost, err := e.Store.LostWorkers(ctx, silence); err == nil && len(lost) > 0 {
		e.Log.Info("workers without a heartbeat were removed; others take up their work", "workers", lost)
	}
}

// sessionCount counts the sessions of this process by route.
type sessionCount struct {
	mu    sync.Mutex
	known map[string]int64
}

func (c *sessionCount) add(held []probe.Conversation) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known == nil {
		c.known = map[string]int64{}
	}
	for _, s := range held {
		c.known[s.Route]++
	}
}

func (c *sessionCount) by() map[string]int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := map[string]int64{}
	maps.Copy(out, c.known)
	return out
}

package work

import (
	"context"
	"sync"
	"time"
)

// speeds gathers how fast lanes get through their addresses, and writes it down
// now and then: all lanes of a key share one record.
type speeds struct {
	mu sync.Mutex
	by map[string]*gathered
}

type gathered struct {
	addresses int
	took      time.Duration
	since     time.Time
	// last is what was written down last, in addresses a second.
	last float64
}

// speedEvery is how often a key's speed is written down.
const speedEvery = 3 * time.Second

// learnSpeed takes in that a lane had answers about addresses in a time. One that
// had none learnt nothing of the host's speed: it may just be gone.
func (e *Engine) learnSpeed(ctx context.Context, key string, addresses int, took time.Duration) {
	if addresses == 0 {
		return
	}
	perSecond, due := e.speeds.add(key, addresses, took)
	if !due {
		return
	}
	if err := e.Store.LearnSpeed(ctx, key, perSecond); err != nil {
		e.Log.Warn("the speed of a lane was not written down", "lane", key, "err", err)
	}
}

func (s *speeds) add(key string, addresses int, took time.Duration) (perSecond float64, due bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	g := s.by[key]
	if g == nil {
		g = &gathered{since: time.Now().Add(-speedEvery)}
		s.by[key] = g
	}
	g.addresses, g.took = g.addresses+addresses, g.took+took
	if time.Since(g.since) < speedEvery || g.took <= 0 {
		return 0, false
	}
	perSecond = float64(g.addresses) / g.took.Seconds()
	*g = gathered{since: time.Now(), last: perSecond}
	return perSecond, true
}

// of is how many addresses a second one lane of a key gets through, 0: not known
// here.
func (s *speeds) of(key string) float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	if g := s.by[key]; g != nil {
		return g.last
	}
	return 0
}

package resolve

import (
	"context"
	"sync"
	"time"
)

// maxEntries bounds the cache; one entry takes a few hundred bytes.
const maxEntries = 200_000

type key struct {
	name  string
	qtype uint16
}

// entry is a lookup in flight until done is closed, and its answer after.
type entry struct {
	done   chan struct{}
	answer Answer
}

type cache struct {
	mu      sync.Mutex
	entries map[key]*entry
}

// get returns the answer that is still good, waits for one in flight, or makes
// the lookup itself. A lookup cut short by its own caller's context is not
// kept for others.
func (c *cache) get(ctx context.Context, k key, now func() time.Time, lookup func() Answer) Answer {
	for {
		c.mu.Lock()
		e, ok := c.entries[k]
		if !ok {
			e = &entry{done: make(chan struct{})}
			c.makeRoom()
			c.entries[k] = e
			c.mu.Unlock()
			e.answer = lookup()
			if over(ctx) {
				e.answer.Expires = now()
			}
			close(e.done)
			return e.answer
		}
		c.mu.Unlock()
		select {
		case <-e.done:
		case <-ctx.Done():
			return Answer{Name: k.name, Status: StatusFailed, Problem: "time is up", Expires: now()}
		}
		if now().Before(e.answer.Expires) {
			return e.answer
		}
		c.forget(k, e)
	}
}

// over reports whether the caller's time is up. A connection's deadline can strike
// a moment before the context with the same deadline knows of it.
func over(ctx context.Context) bool {
	end, ok := ctx.Deadline()
	return ctx.Err() != nil || ok && !time.Now().Before(end)
}

func (c *cache) forget(k key, e *entry) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.entries[k] == e {
		delete(c.entries, k)
	}
}

// makeRoom drops entries, whichever the map gives first, when it is full.
func (c *cache) makeRoom() {
	for k, e := range c.entries {
		if len(c.entries) < maxEntries {
			return
		}
		select {
		case <-e.done:
			delete(c.entries, k)
		default:
		}
	}
}

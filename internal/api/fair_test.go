package api

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// TestFair: who has its share waits for its own alone, all together are bounded, and nothing
// stays when all have left.
func TestFair(t *testing.T) {
	f := newFair(2, 3)
	soon := func() context.Context {
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Millisecond)
		t.Cleanup(cancel)
		return ctx
	}
	enter := func(who string, may bool) func() {
		t.Helper()
		leave, err := f.enter(soon(), who)
		if (err == nil) != may {
			t.Fatalf("%s: %v", who, err)
		}
		return leave
	}
	first, second := enter("greedy", true), enter("greedy", true)
	enter("greedy", false)
	other := enter("modest", true)
	enter("modest", false) // all three are taken
	first()
	first() // twice is once
	third := enter("modest", true)
	enter("greedy", false)
	for _, leave := range []func(){second, other, third} {
		leave()
	}
	if len(f.of) != 0 || len(f.all) != 0 {
		t.Errorf("%d shares and %d places are left", len(f.of), len(f.all))
	}
	var at, most atomic.Int32
	var all sync.WaitGroup
	for n := range 40 {
		all.Go(func() {
			leave, err := f.enter(t.Context(), []string{"a", "b", "c"}[n%3])
			if err != nil {
				t.Error(err)
				return
			}
			defer leave()
			if now := at.Add(1); now > most.Load() {
				most.Store(now)
			}
			time.Sleep(time.Millisecond)
			at.Add(-1)
		})
	}
	all.Wait()
	if most.Load() > 3 || len(f.of) != 0 {
		t.Errorf("%d went on at a time, %d shares are left", most.Load(), len(f.of))
	}
}

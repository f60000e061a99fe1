package store

import (
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"varnet/core/pace"
)

// TestPlacesHoldOverProcesses: two processes together give a host no more sessions than
// it may see, and one that is gone leaves its places to the other.
func TestPlacesHoldOverProcesses(t *testing.T) {
	s, ctx := migratedTo(t, 20), t.Context()
	host := netip.MustParseAddr("192.0.2.7")
	holders := []*HostPlaces{s.HostPlaces(), s.HostPlaces()}
	processes := []*pace.Places{{Shared: holders[0]}, {Shared: holders[1]}}
	var wg sync.WaitGroup
	var now, most atomic.Int32
	for i := range 60 {
		wg.Go(func() {
			seat, err := processes[i%2].Take(ctx, host, 1, 3, false)
			if err != nil {
				t.Error(err)
				return
			}
			n := now.Add(1)
			for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
			}
			time.Sleep(5 * time.Millisecond)
			now.Add(-1)
			seat.Free(0)
		})
	}
	wg.Wait()
	if most.Load() > 3 || most.Load() < 2 {
		t.Errorf("the host saw %d sessions", most.Load())
	}
	if _, err := processes[0].Take(ctx, host, 1, 1, false); err != nil {
		t.Fatal(err)
	}
	holders[0].Close() // it dies
	seat, err := processes[1].Take(ctx, host, 1, 1, false)
	if err != nil {
		t.Fatal(err)
	}
	seat.Free(0)
	holders[1].Close()
}

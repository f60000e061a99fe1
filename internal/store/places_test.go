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

// TestAPlaceOfBothOrOfNone: where the neighbourhood is full the host's own place is given back, so that another process gets it a
// moment later; and a place that is idle is taken again without the database.
func TestAPlaceOfBothOrOfNone(t *testing.T) {
	s, ctx := migratedTo(t, 20), t.Context()
	one, other := s.HostPlaces(), s.HostPlaces()
	defer one.Close()
	defer other.Close()
	scopes := func(host, near string) [2]pace.Scope {
		return [2]pace.Scope{{Name: host, Most: 1}, {Name: near, Most: 1}}
	}
	held, ok, err := one.Take(ctx, scopes("a", "near"), false)
	if !ok || err != nil {
		t.Fatal(ok, err)
	}
	for range 2 {
		if _, ok, err := other.Take(ctx, scopes("b", "near"), false); ok || err != nil {
			t.Fatalf("a full neighbourhood: %v, %v", ok, err)
		}
	}
	time.Sleep(3 * placesIdle)
	if _, ok, err := one.Take(ctx, scopes("b", "elsewhere"), false); !ok || err != nil {
		t.Errorf("the place that was given back: %v, %v", ok, err)
	}
	one.Free(scopes("a", "near"), held)
	one.turn.take(false) // nobody reaches the database now
	if again, ok, err := one.Take(ctx, scopes("a", "near"), false); !ok || err != nil || again != held {
		t.Errorf("what is idle: %v, %v, %v", again, ok, err)
	}
	one.turn.leave()
}

// TestTurn: who is urgent goes before all who wait, and the others in the order in which they came.
func TestTurn(t *testing.T) {
	var at turn
	at.take(false)
	came := make(chan string)
	for n, who := range []string{"first", "second", "urgent"} {
		go func() {
			at.take(who == "urgent")
			came <- who
		}()
		for waits := 0; waits <= n; { // until it stands in line
			at.mu.Lock()
			waits = len(at.urgent) + len(at.others)
			at.mu.Unlock()
		}
	}
	for _, want := range []string{"urgent", "first", "second"} {
		at.leave()
		if got := <-came; got != want {
			t.Errorf("%s has the turn, not %s", got, want)
		}
	}
	if at.leave(); at.taken {
		t.Error("the turn is taken by nobody")
	}
}

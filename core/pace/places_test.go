package pace

import (
	"context"
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

var host = netip.MustParseAddr("192.0.2.7")

// TestPlacesAreFew: however many want sessions, an address sees no more than it may,
// nor does its neighbourhood, and everybody gets one in the end.
func TestPlacesAreFew(t *testing.T) {
	var p Places
	var open, most [5]atomic.Int32
	var near, mostNear atomic.Int32
	raise := func(most *atomic.Int32, n int32) {
		for {
			if m := most.Load(); n <= m || most.CompareAndSwap(m, n) {
				return
			}
		}
	}
	var wg sync.WaitGroup
	for i := range 200 {
		wg.Go(func() {
			n := i % 5
			seat, err := p.Take(t.Context(), netip.AddrFrom4([4]byte{192, 0, 2, byte(n)}), 1, 2, false)
			if err != nil {
				t.Error(err)
				return
			}
			raise(&most[n], open[n].Add(1))
			raise(&mostNear, near.Add(1))
			time.Sleep(time.Millisecond)
			near.Add(-1)
			open[n].Add(-1)
			seat.Free(1)
			seat.Free(1) // once is enough
		})
	}
	wg.Wait()
	for n := range most {
		if most[n].Load() != 2 {
			t.Errorf("address %d saw %d sessions", n, most[n].Load())
		}
	}
	if mostNear.Load() > 2*netShare {
		t.Errorf("the neighbourhood saw %d", mostNear.Load())
	}
	if len(p.scopes) != 0 {
		t.Errorf("%d scopes are remembered for nothing", len(p.scopes))
	}
}

// TestPlacesAreWaitedFor: until the caller's time is up.
func TestPlacesAreWaitedFor(t *testing.T) {
	var p Places
	first, err := p.Take(t.Context(), host, 1, 1, false)
	if err != nil || first.Others() != 0 {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	if _, err := p.Take(ctx, host, 1, 1, false); err == nil {
		t.Error("a second session at a host that may see one")
	}
	if seat, err := p.Take(t.Context(), host, 2, 1, false); err != nil {
		t.Error("another route is another client:", err)
	} else {
		seat.Free(0)
	}
	time.AfterFunc(10*time.Millisecond, func() { first.Free(0) })
	if _, err := p.Take(t.Context(), host, 1, 1, false); err != nil {
		t.Error(err)
	}
}

// TestUnknownRecipientsAreFew: a host that refused many is left alone for a while.
func TestUnknownRecipientsAreFew(t *testing.T) {
	p := Places{Unknown: 240}
	now, asked := time.Now(), 0
	seat, err := p.Take(t.Context(), host, 1, 1, false)
	if err != nil {
		t.Fatal(err)
	}
	seat.Free(100)
	for end := now.Add(10 * time.Minute); now.Before(end); {
		seat, wait, _, err := p.try(t.Context(), Scopes(host, 1, 1), now, false)
		if err != nil {
			t.Fatal(err)
		}
		if seat == nil {
			now = now.Add(wait)
			continue
		}
		asked += 8
		seat.Free(8)
		p.scopes[seat.scopes[0].Name].at = now
	}
	if asked < 2200 || asked > 2500 {
		t.Errorf("%d unknown recipients in 10 minutes", asked)
	}
}

func TestScopes(t *testing.T) {
	for addr, want := range map[string]string{"192.0.2.7": "3 192.0.2.0/24", "2001:db8::7": "3 2001:db8::/64", "::ffff:192.0.2.7": "3 192.0.2.0/24"} {
		s := Scopes(netip.MustParseAddr(addr), 3, 2)
		if s[1] != (Scope{want, 8}) || s[0].Most != 2 {
			t.Errorf("%s: %v", addr, s)
		}
	}
	if s := Scopes(netip.MustParseAddr("::ffff:192.0.2.7"), 3, 2); s[0].Name != fmt.Sprint("3 ", host) {
		t.Errorf("%v", s)
	}
}

// TestUrgent: who is urgent gets the next place, before those who have waited longer, and one session ends for
// each of them.
func TestUrgent(t *testing.T) {
	var waited atomic.Int32
	p := Places{Waits: func(context.Context) func() { waited.Add(1); return func() { waited.Add(-1) } }}
	host := netip.AddrFrom4([4]byte{192, 0, 2, 1})
	take := func(urgent bool) *Seat {
		seat, err := p.Take(t.Context(), host, 1, 2, urgent)
		if err != nil {
			t.Error(err)
		}
		return seat
	}
	first, second := take(false), take(false)
	if first.MakesRoom() || second.MakesRoom() {
		t.Error("a session ends though nobody waits")
	}
	order := make(chan string, 2)
	go func() { take(false); order <- "other" }()
	time.Sleep(20 * time.Millisecond)
	go func() { take(true); order <- "urgent" }()
	time.Sleep(20 * time.Millisecond)
	if waited.Load() != 1 || !first.MakesRoom() || second.MakesRoom() || !first.MakesRoom() {
		t.Errorf("%d wait; the first session alone is to end", waited.Load())
	}
	first.Free(0)
	if who := <-order; who != "urgent" {
		t.Errorf("the place was taken by the %s one", who)
	}
	second.Free(0)
	if who := <-order; who != "other" || waited.Load() != 0 {
		t.Errorf("then by the %s one, and %d wait", who, waited.Load())
	}
}

// TestAPlaceIsKept: while somebody urgent comes now and then, a host that has several places keeps one, and two where
// one was not enough.
func TestAPlaceIsKept(t *testing.T) {
	var p Places
	host, now := netip.AddrFrom4([4]byte{192, 0, 2, 1}), time.Now()
	took := func(urgent bool, most int, at time.Time) bool {
		seat, _, _, err := p.try(t.Context(), Scopes(host, 1, most), at, urgent)
		if err != nil {
			t.Error(err)
		}
		return seat != nil
	}
	for n, want := range []bool{true, true, true, true, false} {
		if got := took(false, 4, now); got != want {
			t.Errorf("place %d: %v, while nobody is urgent", n+1, got)
		}
	}
	p = Places{}
	if !took(true, 4, now) {
		t.Error("an urgent one is not let in")
	}
	for n, want := range []bool{true, true, false} {
		if got := took(false, 4, now); got != want {
			t.Errorf("place %d: %v, after an urgent one", n+2, got)
		}
	}
	if !took(true, 4, now) {
		t.Error("the place that was kept is not given")
	}
	if took(true, 4, now) {
		t.Error("a fifth place of four is given")
	}
	p.scope(Scopes(host, 1, 4)[0].Name).held = 1
	for n, want := range []bool{true, false} {
		if got := took(false, 4, now); got != want {
			t.Errorf("place %d: %v, after one that was kept was not enough", n+2, got)
		}
	}
	if !took(false, 4, now.Add(keptFor)) {
		t.Error("two places are kept long after")
	}
	p = Places{urgentAt: now}
	for range 2 {
		if !took(false, 2, now) {
			t.Error("a host with two places keeps one")
		}
	}
	p = Places{urgentAt: now}
	for range 3 {
		if !took(false, 3, now.Add(keptFor)) {
			t.Error("a place is kept long after")
		}
	}
}

package pace

import (
	"testing"
	"time"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

var usual = Bounds{Cap: DefaultCap}

func TestCalmEarnsLanes(t *testing.T) {
	p := Start()
	for range 40 {
		p = p.After(Seen{Sessions: 3}, now, usual)
	}
	if p.Lanes != DefaultCap || p.Resting(now) {
		t.Errorf("after much calm: %+v", p)
	}
}

func TestComplaintsHalveAndRest(t *testing.T) {
	p := Pace{Lanes: 4}
	p = p.After(Seen{Sessions: 1, Throttled: 2}, now, usual)
	if p.Lanes != 2 || !p.Resting(now.Add(19*time.Second)) || p.Resting(now.Add(26*time.Second)) {
		t.Errorf("after one complaint: %+v", p)
	}
	first := p.RestUntil.Sub(now)
	now := p.RestUntil
	p = p.After(Seen{Throttled: 1}, now, usual)
	if p.Lanes != 1 || p.RestUntil.Sub(now) <= first {
		t.Errorf("after two complaints: %+v", p)
	}
	for range 50 {
		now = p.RestUntil
		p = p.After(Seen{Throttled: 1}, now, usual)
	}
	if p.Lanes != 1 || p.RestUntil.Sub(now) > 20*time.Minute {
		t.Errorf("after many complaints: %+v", p)
	}
	if p = p.After(Seen{Sessions: 1}, now, usual); p.Complaints != 0 {
		t.Errorf("calm does not end the complaints: %+v", p)
	}
}

// TestComplaintsOfOneMomentCountOnce: all lanes that were open hear the same.
func TestComplaintsOfOneMomentCountOnce(t *testing.T) {
	p := Pace{Lanes: 8}
	for range 8 {
		p = p.After(Seen{Sessions: 1, Throttled: 1}, now, Bounds{Cap: 8})
	}
	if p.Lanes != 4 || p.Complaints != 1 || p.RestUntil.Sub(now) > 25*time.Second {
		t.Errorf("after eight complaints at once: %+v", p)
	}
}

// TestCeiling: the lanes that brought a complaint are not tried again at once.
func TestCeiling(t *testing.T) {
	p, later := Pace{Lanes: 4}.After(Seen{Sessions: 1, Throttled: 1}, now, usual), now.Add(time.Minute)
	for range 40 {
		p = p.After(Seen{Sessions: 1}, later, usual)
	}
	if p.Lanes != 3 {
		t.Errorf("%d lanes after a complaint of 4, want 3", p.Lanes)
	}
	for range 4 {
		p = p.After(Seen{Sessions: 1}, now.Add(time.Hour), usual)
	}
	if p.Lanes != 4 {
		t.Errorf("%d lanes an hour later, want 4", p.Lanes)
	}
}

// TestHint: the host's own word on how long to stay away counts.
func TestHint(t *testing.T) {
	p := Start().After(Seen{Sessions: 1, Throttled: 1, Hint: 4 * time.Minute}, now, usual)
	if d := p.RestUntil.Sub(now); d < 4*time.Minute || d > 5*time.Minute {
		t.Errorf("rests for %v, want 4 to 5 minutes", d)
	}
	at, _ := Rounds{time.Hour}.Return(1, time.Minute, now)
	if d := at.Sub(now); d < time.Minute || d > 72*time.Second {
		t.Errorf("comes back after %v, want a minute", d)
	}
}

func TestFailuresEarnNothing(t *testing.T) {
	p := Start()
	for range 10 {
		p = p.After(Seen{Failed: 1}, now, usual)
	}
	if p.Lanes != 1 || p.Resting(now) {
		t.Errorf("after failures: %+v", p)
	}
}

func TestRounds(t *testing.T) {
	r := Rounds{time.Minute, time.Hour}
	for round, wait := range map[int]time.Duration{1: time.Minute, 2: time.Hour} {
		at, ok := r.Return(round, 0, now)
		if d := at.Sub(now); !ok || d < wait || d > wait+wait/4 {
			t.Errorf("round %d comes back after %v", round, d)
		}
	}
	for _, round := range []int{0, 3, -1} {
		if _, ok := r.Return(round, 0, now); ok {
			t.Errorf("round %d comes back", round)
		}
	}
}

func TestRoundsAreSaidAsTheyAreSet(t *testing.T) {
	for want, r := range map[string]Rounds{"5m,15m,45m,2h": DefaultRounds(), "10s,1h30m": {10 * time.Second, 90 * time.Minute}, "20m": {20 * time.Minute}} {
		if r.String() != want {
			t.Errorf("got %s, want %s", r, want)
		}
	}
}

func TestBounds(t *testing.T) {
	p := Start()
	for range 40 {
		p = p.After(Seen{Sessions: 3}, now, Bounds{Cap: 2, Rest: time.Minute})
	}
	if p.Lanes != 2 || !p.RestUntil.Equal(now.Add(time.Minute)) {
		t.Errorf("with a cap of 2 and a rest of a minute: %+v", p)
	}
}

func TestRefused(t *testing.T) {
	for s, want := range map[Seen]bool{{Asked: 4}: false, {Asked: 4, Blocked: 2}: false, {Asked: 4, Blocked: 3}: true, {Asked: 1, Blocked: 1}: true} {
		if s.Refused() != want {
			t.Errorf("%+v: %v", s, !want)
		}
	}
}

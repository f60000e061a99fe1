package pace

import (
	"math/rand/v2"
	"slices"
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
	if p.Lanes != 2 || !p.Resting(now.Add(time.Second)) || p.Resting(now.Add(3*time.Second)) {
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
	if p.Lanes != 4 || p.Complaints != 1 || p.RestUntil.Sub(now) > 7*time.Second {
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
	if p != Start() {
		t.Errorf("after failures: %+v", p)
	}
}

// TestCut: what is cut is all there, in parcels that begin small, but for one that
// is planned in parts.
func TestCut(t *testing.T) {
	for _, n := range []int{1, 24, 25, 30, 300, 1000, 19_999, 20_000, 3_000_000} {
		for _, before := range []bool{false, true} {
			sizes, all := Cut(n, before), 0
			for _, s := range sizes {
				all += s
			}
			begins := firstParcel + leastParcel
			if before {
				begins = ParcelSize
			}
			if all != n || sizes[0] > begins || slices.Max(sizes) > ParcelSize || before && len(sizes) != (n+ParcelSize-1)/ParcelSize {
				t.Errorf("%d addresses are cut into %v", n, sizes[:min(len(sizes), 20)])
			}
		}
	}
}

// TestPortion: while much is left a lane takes all of a parcel, then its part, and
// never less than is worth a session.
func TestPortion(t *testing.T) {
	for _, c := range []struct {
		ready     int64
		lanes     int
		perSecond float64
		want      int
	}{
		{1_000_000, 4, 5, ParcelSize}, {2304, 4, 5, ParcelSize}, {576, 4, 5, 144}, {100, 3, 5, 34},
		{20, 4, 5, leastParcel}, {100, 4, 40, 60}, {100, 4, 0, 30}, {100, 1, 5, 100}, {576, 4, 10_000, ParcelSize},
	} {
		if got := Portion(c.ready, c.lanes, c.perSecond); got != c.want {
			t.Errorf("of %d, on %d lanes of %v a second, one takes %d, want %d", c.ready, c.lanes, c.perSecond, got, c.want)
		}
	}
}

// TestPortionsEndTogether plays lanes of one speed that take their portions: the last
// ends a short turn after the first, whatever was left.
func TestPortionsEndTogether(t *testing.T) {
	const perSecond = 10
	for _, left := range []int{13, 100, 577, 3000} {
		ends := make([]float64, 4) // of the lanes, in seconds
		for _, parcel := range Cut(left, false) {
			for parcel > 0 {
				slices.Sort(ends)
				n := min(parcel, Portion(int64(left), len(ends), perSecond))
				ends[0] += float64(n) / perSecond
				parcel, left = parcel-n, left-n
			}
		}
		if apart := slices.Max(ends) - slices.Min(ends); apart > firstParcel/perSecond {
			t.Errorf("lanes end %.1f s apart: %v", apart, ends)
		}
	}
}

func TestEmployed(t *testing.T) {
	for _, c := range []struct {
		parcels   int
		addresses int64
		want      int
	}{{0, 0, 0}, {1, 1, 1}, {1, 12, 1}, {1, 13, 2}, {2, 14, 2}, {1, 36, 3}, {3, 3, 3}, {9, 1000, 4}} {
		if got := Employed(c.parcels, c.addresses, 4, 5); got != c.want {
			t.Errorf("%d addresses in %d parcels employ %d of 4 lanes, want %d", c.addresses, c.parcels, got, c.want)
		}
	}
}

func TestUrgency(t *testing.T) {
	for _, c := range []struct {
		turn int32
		left time.Duration
		want int
	}{{0, time.Second, 1}, {9, time.Hour, 1}, {9, 5 * time.Minute, 2}, {9, time.Minute, 3}, {9, time.Second, 4}} {
		if got := Urgency(c.turn, c.left); got != c.want {
			t.Errorf("turn %d with %v left: %d, want %d", c.turn, c.left, got, c.want)
		}
	}
}

// TestExpect: the longest load bounds the whole, and so do the lanes there are.
func TestExpect(t *testing.T) {
	large, little := Load{Key: "large", Addresses: 40_000, Lanes: 4, Cap: 4, PerSecond: 10}, Load{Key: "little", Addresses: 100, Lanes: 1, Cap: 4}
	f := Expect([]Load{little, large}, 200)
	if f.Slowest.Key != "large" || f.Likely < 800*time.Second || f.Likely > 1300*time.Second || f.Low >= f.Likely || f.High <= f.Likely {
		t.Errorf("of %v: %+v", large.Takes(), f)
	}
	var many []Load
	for range 1000 {
		many = append(many, Load{Addresses: 1000, Lanes: 1, Cap: 1, PerSecond: 10})
	}
	if f := Expect(many, 100); f.Likely < 900*time.Second || f.Likely > 1300*time.Second {
		t.Errorf("a hundred lanes for a hundred thousand seconds of work: %v", f.Likely)
	}
	if f := Expect(nil, 200); f.High != 0 {
		t.Errorf("nothing to ask takes %v", f.High)
	}
	resting := Load{Addresses: 10, Lanes: 1, Cap: 1, PerSecond: 10, Rest: time.Minute}
	if f := Expect([]Load{resting}, 200); f.Low < time.Minute {
		t.Errorf("one that rests for a minute takes %v", f.Low)
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

// TestWhateverIsMet: lanes stay between one and the cap, below a ceiling while that
// holds; nobody is asked sooner for a complaint.
func TestWhateverIsMet(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 25))
	for range 300 {
		p, at, b := Start(), now, Bounds{Cap: 1 + rng.IntN(12), Rest: time.Duration(rng.IntN(2)) * time.Second}
		for range 60 {
			at = at.Add(time.Duration(rng.IntN(90)) * time.Second)
			met := Seen{Sessions: rng.IntN(3), Failed: rng.IntN(2) * rng.IntN(2), Throttled: rng.IntN(2) * rng.IntN(2) * rng.IntN(2), Hint: time.Duration(rng.IntN(2)*rng.IntN(600)) * time.Second}
			before := p
			p = p.After(met, at, b)
			switch {
			case p.Lanes < 1 || p.Lanes > b.Cap:
				t.Fatalf("%d lanes; at most %d", p.Lanes, b.Cap)
			case p.Lanes > before.Lanes+1 || p.Lanes > before.Lanes && met.Throttled+met.Failed > 0:
				t.Fatalf("%+v brought %d lanes after %d", met, p.Lanes, before.Lanes)
			case p.Lanes > before.Lanes && at.Before(before.CeilingUntil) && p.Lanes > before.Ceiling:
				t.Fatalf("%d lanes above the ceiling of %d", p.Lanes, before.Ceiling)
			case p.RestUntil.Before(before.RestUntil) && before.Resting(at):
				t.Fatalf("%+v ended a rest at %s that went to %s", met, p.RestUntil, before.RestUntil)
			case met.Throttled > 0 && !before.Resting(at) && !p.RestUntil.After(at):
				t.Fatalf("no rest after a complaint: %+v", p)
			}
		}
	}
}

// TestLongest: the longest session without a complaint counts, and a complaint at a recipient says that no longer one did.
func TestLongest(t *testing.T) {
	now, p := time.Now(), Start()
	for _, c := range []struct {
		met  Seen
		want int
	}{
		{Seen{Sessions: 1, Answered: 30, Longest: 30}, 30}, {Seen{Sessions: 1, Answered: 12, Longest: 12}, 30}, {Seen{Sessions: 2, Answered: 90, Longest: 60}, 60},
		{Seen{Sessions: 1, Throttled: 1, Answered: 20}, 60}, {Seen{Sessions: 2, Throttled: 1, Answered: 70, Longest: 40, AtRecipient: true, Bore: 25}, 25},
		{Seen{Sessions: 1, Throttled: 1, AtRecipient: true}, 0},
	} {
		if p = p.After(c.met, now, usual); p.Longest != c.want {
			t.Errorf("after %+v the longest is %d, not %d", c.met, p.Longest, c.want)
		}
	}
}

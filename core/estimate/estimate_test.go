package estimate

import (
	"math/rand/v2"
	"testing"
)

// TestCoverage draws samples from made-up lists, in which each domain has its
// own share of bad addresses, and counts how often the interval holds the
// truth.
func TestCoverage(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	const lists = 2000
	held, wide := 0, 0.0
	for range lists {
		addresses := list(rng)
		bad := int64(0)
		for _, is := range addresses {
			if is {
				bad++
			}
		}
		hits := int64(0)
		places := Positions(rng, int64(len(addresses)), Size)
		for _, p := range places {
			if addresses[p] {
				hits++
			}
		}
		s := Of(hits, int64(len(places)), int64(len(addresses)))
		truth := float64(bad) / float64(len(addresses))
		if s.Low <= truth && truth <= s.High {
			held++
		}
		wide = max(wide, s.High-s.Low)
	}
	if share := float64(held) / lists; share < 0.93 {
		t.Errorf("%.1f %% of %d intervals hold the truth, 93 are wanted", 100*share, lists)
	}
	if wide > 0.1 {
		t.Errorf("the widest interval is %.0f points", 100*wide)
	}
}

// list makes a list of a few large domains and a long tail up; some domains are
// bad as a whole.
func list(rng *rand.Rand) (bad []bool) {
	total := 500 + rng.IntN(30_000)
	for len(bad) < total {
		size, share := 1+rng.IntN(5), rng.Float64()*0.5
		if rng.IntN(30) == 0 {
			size = 1 + rng.IntN(total/4)
		}
		if rng.IntN(8) == 0 {
			share = 1
		}
		for range size {
			bad = append(bad, rng.Float64() < share)
		}
	}
	return bad[:total]
}

func TestOf(t *testing.T) {
	for _, c := range []struct {
		hits, sampled, whole int64
		says                 string
	}{
		{0, 400, 100_000, "0 to 1 %"}, {140, 400, 100_000, "30 to 40 %"}, {400, 400, 100_000, "99 to 100 %"},
		{7, 20, 20, "35 %"}, {0, 0, 50, "0 to 100 %"}, {190, 380, 400, "48 to 52 %"},
	} {
		if got := Of(c.hits, c.sampled, c.whole).Percent(); got != c.says {
			t.Errorf("%d of %d of %d: %s, want %s", c.hits, c.sampled, c.whole, got, c.says)
		}
	}
	if places := Positions(rand.New(rand.NewPCG(1, 1)), 3, 400); len(places) != 3 || places[2] != 2 {
		t.Errorf("%v", places)
	}
}

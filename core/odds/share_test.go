package odds

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// TestShare: a domain counts from 20 addresses of three other workspaces on, in steps of five,
// without one's own.
func TestShare(t *testing.T) {
	count := func(workspace int64, domain string, addresses, arrived int) Count {
		return Count{workspace, domain, "hosting.example", addresses, arrived}
	}
	counts := []Count{count(1, "orchard.example", 9, 7), count(2, "orchard.example", 9, 6), count(3, "orchard.example", 9, 2), count(4, "orchard.example", 100, 100),
		count(1, "attic.example", 50, 50), count(2, "attic.example", 50, 50),
		count(1, "few.example", 6, 6), count(2, "few.example", 6, 6), count(3, "few.example", 6, 6)}
	got := Share(counts, 4, 0.55)
	if len(got) != 2 || got[0].Domain != "orchard.example" || got[0].Arrived || got[0].Times != 10 || !got[1].Arrived || got[1].Times != 15 {
		t.Errorf("%+v", got)
	}
	for _, o := range got {
		if o.Facts != (Facts{}) || o.Prior != 0.55 || o.Operator != "hosting.example" {
			t.Errorf("%+v", o)
		}
	}
	if got := Share(counts, 1, 0.55); len(got) != 2 || got[0].Times != 10 || got[1].Times != 105 {
		t.Errorf("for the first workspace: %+v", got)
	}
}

// TestShareTellsNoAddress: whatever there is, an outcome more of one workspace shows in at most one
// step, and nothing shows of what fewer than three others know.
func TestShareTellsNoAddress(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 25))
	for range 2000 {
		var counts []Count
		for range rng.IntN(12) {
			n := rng.IntN(30)
			counts = append(counts, Count{rng.Int64N(5), []string{"orchard.example", "attic.example"}[rng.IntN(2)], "op", n, rng.IntN(n + 1)})
		}
		own := rng.Int64N(5)
		shared := Share(counts, own, 0.5)
		for _, o := range shared {
			others := map[int64]int{}
			for _, c := range counts {
				if c.Domain == o.Domain && c.Workspace != own && c.Addresses > 0 {
					others[c.Workspace] += c.Addresses
				}
			}
			sum := 0
			for _, n := range others {
				sum += n
			}
			if len(others) < sharedWorkspaces || sum < sharedAddresses || int(o.Times)%sharedStep != 0 {
				t.Fatalf("%+v of %+v", o, others)
			}
		}
		mine := append(slices.Clone(counts), Count{own, "orchard.example", "op", 500, 500})
		if again := Share(mine, own, 0.5); len(again) != len(shared) {
			t.Fatalf("one's own outcomes came back: %+v", again)
		}
	}
}

package work

import (
	"fmt"
	"testing"

	"varnet/core/pace"
	"varnet/internal/store"
)

// TestSmallDomainsStayWhole cuts domains of every size at every place: nothing is lost,
// a small domain is never parted, a large one is cut where it was to be.
func TestSmallDomainsStayWhole(t *testing.T) {
	sizes := []int{1, 11, pace.OwnFrom - 1, pace.OwnFrom, 200, 3}
	var asking []store.Asking
	for n, size := range sizes {
		for range size {
			asking = append(asking, store.Asking{AddressRow: store.AddressRow{Domain: fmt.Sprint(n)}})
		}
	}
	begins := map[int]bool{len(asking): true}
	for at, domain := 0, ""; at < len(asking); at++ {
		if asking[at].Domain != domain {
			begins[at], domain = true, asking[at].Domain
		}
	}
	for at := range len(asking) + 5 {
		got := wholeDomain(asking, at)
		switch {
		case got < min(at, len(asking)) || got > len(asking) || got-at >= pace.OwnFrom:
			t.Errorf("a cut at %d came to %d", at, got)
		case got != at && !begins[got]:
			t.Errorf("a cut at %d came to %d, in the middle of a domain", at, got)
		case got == at && !begins[got] && asking[at].Domain != "3" && asking[at].Domain != "4":
			t.Errorf("a cut at %d parts a small domain", at)
		}
	}
	if got := portionOf(asking[45:65], 12); got != 12 {
		t.Errorf("a piece of a large domain is cut at %d, not at 12", got)
	}
	if got := portionOf(asking[:20], 6); got != 20 && !begins[got] {
		t.Errorf("a parcel of several domains is cut at %d", got)
	}
	b := batch{run: store.Run{}}
	b.pack("key", asking, 1, b.now)
	total := 0
	for _, p := range b.parcels {
		total += len(p.Questions)
	}
	if total != len(asking) {
		t.Errorf("%d of %d questions are in parcels", total, len(asking))
	}
}

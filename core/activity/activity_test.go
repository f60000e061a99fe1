package activity

import (
	"slices"
	"testing"
	"time"
)

func TestStep(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	for days, want := range map[int]Step{0: Within30, 30: Within30, 31: Within60, 61: Within90, 90: Within90, 91: Within180, 180: Within180, 181: Within365, 365: Within365, 366: Longer, 4000: Longer, -3: Within30} {
		s := Seen{At: now.AddDate(0, 0, -days)}
		if got := s.Step(now); got != want || s.Days(now) != max(0, days) {
			t.Errorf("%d days: %s, %d", days, got, s.Days(now))
		}
	}
	if (Seen{}).Step(now) != Never || (Seen{}).Days(now) != -1 {
		t.Error("what was never seen is in a step")
	}
	if all := Steps(); len(all) != 7 || slices.ContainsFunc(all, func(s Step) bool { return s.Says() == "" }) {
		t.Errorf("%v", all)
	}
}

func TestLater(t *testing.T) {
	old, young := Seen{At: time.Unix(1, 0), Kind: "opened"}, Seen{At: time.Unix(2, 0), Kind: "ordered"}
	if old.Later(young) != young || young.Later(old) != young || (Seen{}).Later(old) != old {
		t.Error("the later is not the later")
	}
}

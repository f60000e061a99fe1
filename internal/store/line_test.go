package store_test

import (
	"testing"
	"time"

	"varnet/internal/store"
)

// lined adds parcels of a run to the line, as its planning does.
func lined(t *testing.T, s *store.Store, run store.Run, n int) {
	t.Helper()
	parcels := make([]store.Parcel, n)
	for i := range parcels {
		parcels[i] = parcel(run, int32(i), time.Now(), int32(i+1))
	}
	if err := s.StandInLine(t.Context(), run, parcels); err != nil {
		t.Fatal(err)
	}
	add(t, s, parcels...)
}

// claimed claims so many parcels and counts them by their run.
func claimed(t *testing.T, s *store.Store, n int) map[int64]int {
	t.Helper()
	out := map[int64]int{}
	for range n {
		p, err := s.Claim(t.Context(), "op.example", 0)
		if err != nil || p == nil {
			t.Fatalf("%v, %v", p, err)
		}
		out[p.RunID]++
	}
	return out
}

// TestLine: at an operator each workspace has the same share, whenever its run began and however many runs it
// has; and an urgent run goes before all.
func TestLine(t *testing.T) {
	s := open(t)
	large := newRun(t, s, workspace(t, s, "large"), 600)
	lined(t, s, large, 300)
	if got := claimed(t, s, 100); got[large.ID] != 100 {
		t.Fatalf("alone: %v", got)
	}
	// Another workspace begins when a hundred parcels are done: both go on in turns.
	late := newRun(t, s, workspace(t, s, "late"), 600)
	lined(t, s, late, 40)
	if got := claimed(t, s, 40); got[large.ID] < 18 || got[late.ID] < 18 {
		t.Errorf("beside the late one: %v", got)
	}
	// A workspace with ten runs has no more than the others; the third of all.
	many := workspace(t, s, "many")
	var runs []store.Run
	for range 10 {
		runs = append(runs, newRun(t, s, many, 600))
	}
	for _, r := range runs {
		lined(t, s, r, 20)
	}
	got := claimed(t, s, 45)
	sum := 0
	for _, r := range runs {
		sum += got[r.ID]
	}
	if got[large.ID] < 13 || sum < 13 || sum > 20 {
		t.Errorf("beside ten runs of one workspace: the large one %d, the late one %d, the ten %d", got[large.ID], got[late.ID], sum)
	}
	urgent := newRun(t, s, workspace(t, s, "urgent"), 600)
	urgent.Urgent = true
	lined(t, s, urgent, 5)
	if got := claimed(t, s, 5); got[urgent.ID] != 5 {
		t.Errorf("the urgent run: %v", got)
	}
	// Who comes after it does not stand with it.
	last := newRun(t, s, workspace(t, s, "last"), 600)
	lined(t, s, last, 10)
	if got := claimed(t, s, 20); got[last.ID] < 4 || got[last.ID] > 10 || got[large.ID] < 4 {
		t.Errorf("the last one: %v", got)
	}
}

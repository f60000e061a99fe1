package store_test

import (
	"errors"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/probe"
	"varnet/internal/store"
	"varnet/internal/store/pack"
)

// TestWhatAReportCounts: domains and operators with their addresses, the largest
// first, and the sessions that it took.
func TestWhatAReportCounts(t *testing.T) {
	s, ctx := open(t), t.Context()
	run := newRun(t, s, workspace(t, s, "ours"), 20)
	concluded(t, s, run, 20) // of which the 1st, 8th and 15th are absent
	verdicts, err := s.Verdicts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var good []int32
	for id, v := range verdicts {
		if v.Finding == finding.Deliverable {
			good = append(good, id)
		}
	}
	want := store.Place{Name: "fernhollow.example", Addresses: 20, Deliverable: 17}
	domains, err := s.DomainPlaces(ctx, run, good, 5)
	if err != nil || len(domains) != 1 || domains[0] != want {
		t.Errorf("domains %+v, %v", domains, err)
	}
	operators, err := s.OperatorPlaces(ctx, run, good, 5)
	if err != nil || len(operators) != 1 || operators[0] != want {
		t.Errorf("operators %+v, %v", operators, err)
	}
	if none, err := s.DomainPlaces(ctx, run, good, 0); err != nil || len(none) != 0 {
		t.Errorf("none asked for: %+v, %v", none, err)
	}

	if n, err := s.Sessions(ctx, run.ID); n != 0 || err != nil {
		t.Errorf("%d sessions before any, %v", n, err)
	}
	add(t, s, parcel(run, 1, time.Now(), 1), parcel(run, 2, time.Now(), 2), parcel(run, 3, time.Now(), 3))
	for lane, held := range [][]probe.Conversation{nil, {{Exchanger: "mx1.fernhollow.example"}}, make([]probe.Conversation, 3)} {
		p, err := s.Claim(ctx, "op.example", lane)
		if err != nil || p == nil {
			t.Fatal(p, err)
		}
		if ok, err := s.MarkDone(ctx, p.ID, lane, pack.ParcelRecord{Conversations: held}); !ok || err != nil {
			t.Fatal(ok, err)
		}
	}
	if n, err := s.Sessions(ctx, run.ID); n != 4 || err != nil {
		t.Errorf("%d sessions, want 4, %v", n, err)
	}
}

// TestWhatWasLearntIsForgotten: an operator is found by a part of its name, in which
// no sign stands for others, and forgotten with all routes.
func TestWhatWasLearntIsForgotten(t *testing.T) {
	s, ctx := open(t), t.Context()
	for n, name := range []string{"post_barn.example", "postbarn.example", "hedge%row.example"} {
		for route := range int64(2) {
			if _, err := s.LearnPace(ctx, name, route+1, pace.Seen{Sessions: 1}, time.Now().Add(time.Duration(n)*time.Minute), pace.Bounds{Cap: 4}); err != nil {
				t.Fatal(err)
			}
		}
	}
	for search, want := range map[string]int{"": 6, "barn": 4, "t_b": 2, "%": 2, "POST": 4, `\`: 0, "nobody": 0} {
		if found, err := s.OperatorRoutes(ctx, search, 10); err != nil || len(found) != want {
			t.Errorf("%q finds %d, want %d, %v", search, len(found), want, err)
		}
	}
	if found, err := s.OperatorRoutes(ctx, "", 1); err != nil || len(found) != 1 || found[0].Operator != "hedge%row.example" {
		t.Errorf("asked last: %+v, %v", found, err)
	}
	if err := s.ForgetPace(ctx, "postbarn.example"); err != nil {
		t.Fatal(err)
	}
	if err := s.ForgetPace(ctx, "postbarn.example"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("forgotten twice: %v", err)
	}
	if known, err := s.Operators(ctx, []string{"postbarn.example", "post_barn.example"}); err != nil || len(known["postbarn.example"].By) != 0 || len(known["post_barn.example"].By) != 2 {
		t.Errorf("known still: %+v, %v", known, err)
	}
}

// TestSpeedsAreLearnt: what comes later weighs less than what was known, and nothing
// is known of others.
func TestSpeedsAreLearnt(t *testing.T) {
	s, ctx := open(t), t.Context()
	for _, perSecond := range []float64{10, 20} {
		if err := s.LearnSpeed(ctx, "slow.example", perSecond); err != nil {
			t.Fatal(err)
		}
	}
	speeds, err := s.Speeds(ctx, []string{"slow.example", "new.example"})
	if got := speeds["slow.example"]; err != nil || len(speeds) != 1 || got < 12.9 || got > 13.1 {
		t.Errorf("speeds %v, %v; want 13 of slow.example", speeds, err)
	}
}

package store_test

import (
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/internal/store"
)

// TestInside: what operators see of a list, a run and a parcel is what there is, and the
// view of results holds the latest of each address.
func TestInside(t *testing.T) {
	s, ctx := open(t), t.Context()
	run := newRun(t, s, workspace(t, s, "ours"), 5)
	concludeSome(t, s, run, answered(1, finding.MailboxAccepted, "250 ok"), answered(2, finding.ExchangerPostponed, "450 later"))
	st, err := s.Latest(ctx, run.ID)
	if err != nil {
		t.Fatal(err)
	}
	again := answered(2, finding.MailboxAbsent, "550 5.1.1 no")
	again.Was = verdictOf(t, st, 2)
	concludeSome(t, s, run, again)
	if err := s.AddParcels(ctx, []store.Parcel{parcel(run, 1, time.Now(), 3, 4)}); err != nil {
		t.Fatal(err)
	}
	l, err := s.InspectList(ctx, run.ListID)
	if err != nil || l.Rows != 5 || l.Blocks != 1 || l.BlockBytes == 0 || l.Workspace != "ours" || len(l.Runs) != 1 || l.Runs[0].ID != run.ID {
		t.Errorf("list: %+v, %v", l, err)
	}
	r, err := s.InspectRun(ctx, run.ID)
	if err != nil || r.Batches != 2 || len(r.Results) != 2 || len(r.Parcels) != 1 || r.Parcels[0].Addresses != 2 || len(r.Lanes) != 1 || r.Lanes[0].Waits != "ready" {
		t.Errorf("run: %+v, %v", r, err)
	}
	p, err := s.InspectParcel(ctx, 1)
	if err != nil || p.State != "open" || len(p.Questions) != 2 || p.Questions[0].Ordinal != 3 || p.Record != nil {
		t.Errorf("parcel: %+v, %v", p, err)
	}
	if _, err := s.InspectParcel(ctx, 99); err != store.ErrNotFound {
		t.Errorf("a parcel that there is not: %v", err)
	}
	rows, err := s.Pool().Query(ctx, "SELECT ordinal, address, cause FROM result_now WHERE run_id = $1 ORDER BY ordinal", run.ID)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var got []string
	for rows.Next() {
		var ordinal int32
		var address *string
		var cause string
		if err := rows.Scan(&ordinal, &address, &cause); err != nil {
			t.Fatal(err)
		}
		if address == nil {
			t.Fatalf("address %d is not in the view", ordinal)
		}
		got = append(got, *address+" "+cause)
	}
	if len(got) != 2 || got[1][len(got[1])-len("mailbox.absent"):] != "mailbox.absent" {
		t.Errorf("results: %q", got)
	}
}

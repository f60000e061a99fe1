package store_test

import (
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/core/ledger"
	"varnet/internal/store"
)

// TestChargedWithResults: a run is charged in the statement that records results, for those that become
// conclusive by the mail hosts; what was known, is taken over or came by messages of one's own is not.
func TestChargedWithResults(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	run := newRun(t, s, w, 8)
	record := func(results ...store.Concluded) {
		t.Helper()
		if err := s.KnowVerdicts(ctx, results); err != nil {
			t.Fatal(err)
		}
		if err := s.AddResults(ctx, run.ID, results); err != nil {
			t.Fatal(err)
		}
	}
	was := func(address int32) int32 {
		t.Helper()
		latest, err := s.Latest(ctx, run.ID)
		if err != nil {
			t.Fatal(err)
		}
		return verdictOf(t, latest, address)
	}
	again := func(address int32, cause finding.Cause) store.Concluded {
		r := answered(address, cause, "250 again")
		r.Was = was(address)
		return r
	}
	record(answered(8, finding.MailboxAccepted, "250 before")) // nothing is set aside yet
	r := store.Reservation{WorkspaceID: w, What: store.ForRun, RunID: &run.ID, CostDomain: 2, CostMailbox: 3, At: time.Now()}
	h, err := s.HoldForReservation(ctx, &r)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.NewReservation(ctx, r, h.Book); err != nil {
		t.Fatal(err)
	}
	for i, step := range []struct {
		what string
		do   func()
		want int64
	}{
		{"three that hosts know, one that they put off", func() {
			record(answered(1, finding.MailboxAccepted, "250"), answered(2, finding.MailboxAbsent, "550"), answered(3, finding.MailboxAnyAccepted, "250"), answered(4, finding.ExchangerPostponed, "450"))
		}, 9},
		{"the one that was put off", func() { record(again(4, finding.MailboxAccepted)) }, 12},
		{"one that was known, asked again", func() { record(again(1, finding.MailboxAbsent)) }, 12},
		{"one that is not known any more", func() { record(again(2, finding.ExchangerPostponed)) }, 9},
		{"that one, once more", func() { record(again(2, finding.MailboxAccepted)) }, 12},
		{"one by its domain alone", func() { record(answered(5, finding.DomainAbsent, "")) }, 14},
		{"one by a message that bounced", func() {
			results := []store.Concluded{answered(6, finding.MailboxBounced, "550")}
			if err := s.KnowVerdicts(ctx, results); err != nil {
				t.Fatal(err)
			}
			if err := s.AddOutcomes(ctx, run.ID, results); err != nil {
				t.Fatal(err)
			}
		}, 14},
		{"after the reservation is closed", func() {
			now := time.Now()
			r.Charged, r.ClosedAt = 14, &now
			if err := s.CloseReservation(ctx, r, &ledger.Book{}); err != nil {
				t.Fatal(err)
			}
			record(answered(7, finding.MailboxAccepted, "250"))
		}, 14},
	} {
		step.do()
		if _, got, _, err := s.HoldReservation(ctx, r); err != nil || got != step.want {
			t.Errorf("step %d, %s: charged are %d, not %d (%v)", i, step.what, got, step.want, err)
		}
	}
}

// TestUrgentFirst: parcels of an urgent run are claimed before all of others.
func TestUrgentFirst(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "ours")
	plain, urgent := newRun(t, s, w, 2), newRun(t, s, w, 2)
	urgent.Urgent = true
	lined(t, s, plain, 1)
	lined(t, s, urgent, 1)
	for _, want := range []int64{urgent.ID, plain.ID} {
		if got, err := s.Claim(t.Context(), "op.example", 0); err != nil || got == nil || got.RunID != want {
			t.Errorf("claimed is %+v, not one of run %d (%v)", got, want, err)
		}
	}
}

// TestLedgerStays: neither entries nor the whole of them can be changed or deleted.
func TestLedgerStays(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	b := &ledger.Book{Entries: []ledger.Entry{{From: ledger.Granted, To: ledger.Used, Amount: 1, Why: ledger.Charge}}}
	if err := s.SaveBook(ctx, w, b, "", time.Now()); err != nil {
		t.Fatal(err)
	}
	for _, sql := range []string{"UPDATE ledger_entry SET amount = 2", "DELETE FROM ledger_entry", "TRUNCATE ledger_entry", "INSERT INTO ledger_entry (workspace_id, at, from_account, to_account, amount, why) VALUES (1, now(), 'used', 'used', 1, 'x')",
		"INSERT INTO ledger_entry (workspace_id, at, from_account, to_account, amount, why) VALUES (1, now(), 'granted', 'used', -1, 'x')"} {
		if err := s.InTx(ctx, func(_ *store.Store, tx pgx.Tx) error { _, err := tx.Exec(ctx, sql); return err }); err == nil {
			t.Errorf("%s: it is done", sql)
		}
	}
}

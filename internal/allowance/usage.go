package allowance

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"varnet/core/ledger"
	"varnet/core/say"
	"varnet/internal/store"
)

// State is where the allowance of a workspace stands.
type State struct {
	store.Allowance
	store.AllowanceLeft
	Used30 int64      // charged in the last 30 days
	Lasts  *time.Time // until when it lasts at that pace; nil: nothing tells
}

// UsedDays are the days whose pace a forecast goes by.
const UsedDays = 30

// Stands returns where the allowance of a workspace stands; kept is false where none is kept.
func (d *Desk) Stands(ctx context.Context, workspace int64) (st State, kept bool, err error) {
	if st.Allowance, kept, err = d.kept(ctx, workspace); err != nil || !kept {
		return st, kept, err
	}
	now := d.Now()
	left, err := d.Store.AllowancesLeft(ctx, workspace, now)
	if err != nil {
		return st, true, err
	}
	st.AllowanceLeft = left[workspace]
	if st.Used30, err = d.Store.UsedSince(ctx, workspace, now.AddDate(0, 0, -UsedDays)); err != nil {
		return st, true, err
	}
	if until, ok := ledger.Lasts(st.Available, st.Used30, UsedDays, now); ok {
		st.Lasts = &until
	}
	return st, true, nil
}

// Line is a line of a statement.
type Line struct {
	At      time.Time
	Why     ledger.Why
	Says    string
	Amount  int64
	Balance int64 // after it
}

// Statement is what came and went in a month.
type Statement struct {
	From, Until   time.Time
	Before, After int64
	Lines         []Line
	Sums          map[ledger.Why]int64
}

// StatementOf returns the statement of a month: what is held (available or set aside), with what
// came to it and what went. The month begins and ends at midnight in the zone.
func (d *Desk) StatementOf(ctx context.Context, workspace int64, month time.Time, zone *time.Location) (st Statement, err error) {
	st.From = time.Date(month.Year(), month.Month(), 1, 0, 0, 0, 0, zone)
	st.Until, st.Sums = st.From.AddDate(0, 1, 0), map[ledger.Why]int64{}
	var posted []store.Posted
	if st.Before, posted, err = d.Store.Statement(ctx, workspace, st.From, st.Until); err != nil {
		return st, err
	}
	st.After = st.Before
	for _, p := range posted {
		st.After += p.Amount
		st.Sums[p.Why] += p.Amount
		st.Lines = append(st.Lines, Line{p.At.In(zone), p.Why, says(p, zone), p.Amount, st.After})
	}
	return st, nil
}

// says tells a line of a statement in words.
func says(p store.Posted, zone *time.Location) string {
	switch p.Why {
	case ledger.Charge:
		what := map[string]string{store.ForRun: "Run of “" + p.List + "”", store.ForAgain: "Asked again in “" + p.List + "”", store.ForCheck: "Single check"}[p.What]
		if p.What != store.ForCheck && p.RunID != nil {
			what += fmt.Sprintf(" (run %d)", *p.RunID)
		}
		if p.What != store.ForCheck {
			what += fmt.Sprintf(", %s set aside", say.Number(p.Reserved))
			if p.ClosedAt != nil {
				what += fmt.Sprintf(", %s given back", say.Number(max(0, p.Reserved-p.Charged)))
			}
		}
		return what
	case ledger.Expiry:
		return "Expired"
	case ledger.Withdrawal:
		return "Taken back: the payment was " + p.Note
	}
	text := map[ledger.Why]string{ledger.Grant: "Granted", ledger.TopUp: "Bought", ledger.Refill: "Bought by refill", ledger.Subscription: "Bought by subscription", ledger.Correction: "Taken away"}[p.Why]
	if p.Note != "" {
		text += ": " + p.Note
	}
	if p.ExpiresAt != nil {
		text += p.ExpiresAt.In(zone).Format(", until 2 January 2006")
	}
	return text
}

// Verified is what the verification of the book found.
type Verified struct {
	Balances            map[ledger.Account]int64
	Entries, Workspaces int64
	Problems            []string
}

// Verify draws up the trial balance over all workspaces, and holds lots, reservations, purchases and
// papers against the entries.
func (d *Desk) Verify(ctx context.Context) (v Verified, err error) {
	if v.Balances, v.Entries, v.Workspaces, err = d.Store.TrialBalance(ctx); err != nil {
		return v, err
	}
	wrong, err := d.Store.Wrongs(ctx)
	for _, what := range slices.Sorted(maps.Keys(wrong)) {
		v.Problems = append(v.Problems, say.Sentence(fmt.Sprintf("%s: %s, where there should be 0", what, say.Number(wrong[what]))))
	}
	return v, err
}

// Says tells what was found in a sentence.
func (v Verified) Says() string {
	if len(v.Problems) > 0 {
		return "The book does not balance. " + strings.Join(v.Problems, " ")
	}
	return fmt.Sprintf("The book balances: %s of %s add up to 0, every lot has what its entries leave, and every reservation is closed or has something at work.",
		say.Plural(v.Entries, "entry", "entries"), say.Plural(v.Workspaces, "workspace", "workspaces"))
}

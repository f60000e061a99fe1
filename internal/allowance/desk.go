// Package allowance keeps the allowances of workspaces: it sets checks aside before they are made
// and gives back what was not charged, gives what plans grant, buys, and tells what was used. The
// arithmetic is core/ledger's.
package allowance

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
	"varnet/core/finding"
	"varnet/core/ledger"
	"varnet/core/say"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// Desk keeps allowances.
type Desk struct {
	Store   *store.Store
	Secrets *secret.Box
	Now     func() time.Time
	// Happened records an event with a transaction.
	Happened func(ctx context.Context, s *store.Store, tx pgx.Tx, e event.Event) error
	Log      *slog.Logger
}

// Refused reports that a workspace may not do something for another reason than that too little is left.
type Refused struct{ Why string }

func (r *Refused) Error() string { return r.Why }

// Hinders tells in a sentence why an allowance does not let something begin; ok is false for other errors.
func Hinders(err error) (why string, ok bool) {
	var short *ledger.Short
	var refused *Refused
	switch {
	case errors.As(err, &short):
		return say.Sentence(short.Error()), true
	case errors.As(err, &refused):
		return refused.Why, true
	}
	return "", false
}

// Order is what checks are set aside for.
type Order struct {
	Workspace int64
	What      string // store.ForRun, ForAgain or ForCheck
	Run       int64  // 0: none
	List      string
	By        store.By
	Addresses int64 // of which each may cost as much as its depth
	Malformed int64 // texts that are not addresses
	// Standing are the addresses that are asked again, by the verdict that stands: what is known of
	// them is not paid again.
	Standing []Standing
	Depth    string // syntax, domain or mailbox
	Urgent   bool
}

// costs are what findings cost by a plan.
func (o Order) costs(p ledger.Plan) (ledger.Costs, error) {
	switch {
	case !o.Urgent:
		return p.Costs, nil
	case p.Urgent == 0:
		return p.Costs, &Refused{fmt.Sprintf("The plan “%s” has no urgent runs. Start it without.", p.Name)}
	}
	return p.Costs.Times(p.Urgent), nil
}

// Standing are addresses that have a verdict.
type Standing struct {
	Verdict   finding.Verdict
	Addresses int64
}

// most is what an order may cost at most.
func (o Order) most(c ledger.Costs) int64 {
	sum := o.Addresses*c.UpTo(o.Depth) + o.Malformed*c.Syntax
	for _, s := range o.Standing {
		sum += s.Addresses * max(0, c.UpTo(o.Depth)-c.Of(s.Verdict))
	}
	return sum
}

// reservation is one that is to be made for an order.
func (d *Desk) reservation(o Order) store.Reservation {
	return store.Reservation{WorkspaceID: o.Workspace, What: o.What, List: o.List, By: o.By, At: d.Now()}
}

// Reserve sets aside what an order may cost at most. It belongs in the transaction that starts what
// it is for. A workspace of which no allowance is kept has nothing set aside. With too little the error
// is a *ledger.Short, with a limit of the plan in the way a *Refused.
func (d *Desk) Reserve(ctx context.Context, s *store.Store, tx pgx.Tx, o Order) (r store.Reservation, err error) {
	r = d.reservation(o)
	h, err := s.HoldForReservation(ctx, &r)
	if err != nil || !h.Kept {
		return store.Reservation{}, err
	}
	if !h.GrantDue().After(r.At) {
		if err := d.grant(ctx, s, tx, h.Allowance); err != nil {
			return r, err
		}
		if h, err = s.HoldBook(ctx, o.Workspace); err != nil {
			return r, err
		}
	}
	if err := d.setAside(ctx, s, h, o, &r); err != nil {
		return r, err
	}
	if err := s.NewReservation(ctx, r, h.Book); err != nil {
		return r, err
	}
	return r, d.tellLow(ctx, s, tx, h.Allowance, h.Balance())
}

// setAside takes what an order may cost at most from a book, for a reservation.
func (d *Desk) setAside(ctx context.Context, s *store.Store, h store.HeldBook, o Order, r *store.Reservation) error {
	costs, err := o.costs(h.Plan)
	if err != nil {
		return err
	}
	amount := o.most(costs)
	if err := d.withinLimits(ctx, s, h.Allowance, o, amount, r.At); err != nil {
		return err
	}
	held, err := h.Reserve(r.ID, amount, r.At)
	if err != nil {
		return err
	}
	if o.Run != 0 {
		r.RunID = &o.Run
	}
	r.CostSyntax, r.CostDomain, r.CostMailbox = costs.Syntax, costs.Domain, costs.Mailbox
	r.Reserved, r.Taken = held.Reserved, held.Taken
	return nil
}

// withinLimits holds an order against the limits of a day, which begins at midnight UTC.
func (d *Desk) withinLimits(ctx context.Context, s *store.Store, a store.Allowance, o Order, amount int64, now time.Time) error {
	l := a.Plan.Limits
	if l == (ledger.Limits{}) || amount == 0 {
		return nil
	}
	all, person, key, err := s.SetAsideSince(ctx, o.Workspace, o.By, dayOf(now))
	if err != nil {
		return err
	}
	for _, limit := range []struct {
		most, used int64
		holds      bool
		whose      string
	}{{l.Day, all, true, "This workspace"}, {l.PersonDay, person, o.By.PersonID != nil, "You"}, {l.KeyDay, key, o.By.KeyID != nil, "This key"}} {
		if limit.holds && limit.most > 0 && limit.used+amount > limit.most {
			return &Refused{fmt.Sprintf("%s may use %s a day, and %s today. This may take %s. The day ends at midnight UTC.", limit.whose, say.Plural(limit.most, "check", "checks"),
				say.Plural(limit.used, "is used or set aside", "are used or set aside"), say.Number(amount))}
		}
	}
	return nil
}

// dayOf returns when the day of a time began, in UTC.
func dayOf(t time.Time) time.Time { return t.UTC().Truncate(24 * time.Hour) }

// tellLow tells once that little is left, and once more when there was enough in between.
func (d *Desk) tellLow(ctx context.Context, s *store.Store, tx pgx.Tx, a store.Allowance, left int64) error {
	if told(a, left) {
		return nil
	}
	low := left < a.Low
	a.LowTold = low
	if err := s.SetAllowance(ctx, a); err != nil || !low {
		return err
	}
	says := fmt.Sprintf("%s, fewer than your warning level of %s.", say.Plural(left, "check is left", "checks are left"), say.Number(a.Low))
	return d.Happened(ctx, s, tx, event.Event{Code: event.AllowanceLow, Workspace: a.WorkspaceID, Says: says, Data: event.Data{Words: says}})
}

// told reports whether the warning of what is left was given where it is due, and is open again where it is not.
func told(a store.Allowance, left int64) bool { return (left < a.Low) == a.LowTold }

// CloseRun closes what is set aside for a run that has ended and of which nothing is at work.
func (d *Desk) CloseRun(ctx context.Context, s *store.Store, tx pgx.Tx, run int64) error {
	open, err := s.OpenReservations(ctx, run)
	for _, r := range open {
		if err == nil {
			err = d.Close(ctx, s, tx, r)
		}
	}
	return err
}

// Close gives back what of a reservation was not charged. One that is closed stays as it is.
func (d *Desk) Close(ctx context.Context, s *store.Store, tx pgx.Tx, r store.Reservation) error {
	h, charged, open, err := s.HoldReservation(ctx, r)
	if err != nil || !open {
		return err
	}
	now := d.Now()
	r.Charged, r.ClosedAt = charged, &now
	if owed := h.Close(r.Held(), charged, now); owed > 0 {
		l := ledger.Lot{Source: ledger.Granted, Left: owed}
		if err := s.NewLot(ctx, r.WorkspaceID, &l, now); err != nil {
			return err
		}
		h.Return(l, r.ID)
	}
	if err := s.CloseReservation(ctx, r, h.Book); err != nil || !h.Kept { // where none is kept any more, its book is
		return err
	}
	return d.tellLow(ctx, s, tx, h.Allowance, h.Balance())
}

// CloseEnded closes reservations that were left: of runs that were stopped or deleted, and of
// processes that died; of one run, or (0) all.
func (d *Desk) CloseEnded(ctx context.Context, run int64) error {
	ended, err := d.Store.EndedReservations(ctx, run, d.Now())
	for _, r := range ended {
		if err == nil {
			err = d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error { return d.Close(ctx, s, tx, r) })
		}
	}
	return err
}

// Single sets aside what a check of some addresses may cost. Where no allowance is kept, nothing is.
func (d *Desk) Single(ctx context.Context, workspace int64, by store.By, addresses int) (r store.Reservation, err error) {
	o := Order{Workspace: workspace, What: store.ForCheck, By: by, Addresses: int64(addresses), Depth: string(store.DepthMailbox)}
	r = d.reservation(o)
	made, err := d.Store.ReserveCheck(ctx, &r, func(s *store.Store, h store.HeldBook) (all bool, err error) {
		if !h.GrantDue().After(r.At) {
			return false, nil
		}
		err = d.setAside(ctx, s, h, o, &r)
		return told(h.Allowance, h.Balance()), err
	})
	if made || err != nil {
		return r, err
	}
	err = d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		r, err = d.Reserve(ctx, s, tx, o)
		return err
	})
	return r, err
}

// Settle charges a reservation of single checks with what was found, and closes it, unless it took so long that it
// was given back. Somebody waits, so nothing is read first: nothing was charged before, and what goes back depends on
// no other lot. That enough is left again is noticed by the next reservation.
func (d *Desk) Settle(ctx context.Context, r store.Reservation, found []finding.Verdict) error {
	if r.ID == 0 {
		return nil
	}
	var n ledger.Conclusive
	for _, v := range found {
		if v.Cause != finding.MailboxBounced { // nobody pays for what their own messages told
			n.Count(v, 1)
		}
	}
	now := d.Now()
	r.Charged, r.ClosedAt = r.Costs().Cost(n), &now
	b := &ledger.Book{}
	b.Charge(r.ID, r.Charged)
	b.Close(r.Held(), r.Charged, now)
	return d.Store.CloseReservation(ctx, r, b)
}

// Kept reports whether an allowance of a workspace is kept, as the store or a transaction of it sees it.
func Kept(ctx context.Context, s *store.Store, workspace int64) (a store.Allowance, is bool, err error) {
	return kept(s.Allowance(ctx, workspace))
}

// kept tells from what was read of an allowance whether one is kept.
func kept(a store.Allowance, err error) (store.Allowance, bool, error) {
	if errors.Is(err, store.ErrNotFound) {
		return a, false, nil
	}
	return a, err == nil, err
}

// MayEstimate reports with a *Refused that the free estimates of a day are used up.
func (d *Desk) MayEstimate(ctx context.Context, workspace int64) error {
	a, kept, err := Kept(ctx, d.Store, workspace)
	if err != nil || !kept || a.Plan.EstimatesADay == 0 {
		return err
	}
	n, err := d.Store.EstimatesSince(ctx, workspace, dayOf(d.Now()))
	if err == nil && n >= a.Plan.EstimatesADay {
		err = &Refused{fmt.Sprintf("The plan “%s” has %s a day, and today's are used. The day ends at midnight UTC.", a.Plan.Name, say.Plural(int64(a.Plan.EstimatesADay), "free estimate", "free estimates"))}
	}
	return err
}

// Said is what a run may take, told before it is started.
type Said struct {
	Addresses  int64 // of the list
	Duplicates int64 // not counted
	Reused     int64 // not counted
	Most       int64 // what it can cost at most
	Available  int64
	Left       int64 // after that
	Missing    int64 // checks that it takes more than are available
}

// Say returns what a run of a list may take; kept is false where no allowance is kept.
func (d *Desk) Say(ctx context.Context, l store.List, o Order, reused int64) (said Said, kept bool, err error) {
	a, kept, err := d.kept(ctx, o.Workspace)
	if err != nil || !kept {
		return said, kept, err
	}
	costs, err := o.costs(a.Plan)
	if err != nil {
		return said, true, err
	}
	left, err := d.Store.AllowancesLeft(ctx, o.Workspace, d.Now())
	said = Said{Addresses: l.Addresses, Duplicates: l.Duplicates, Reused: reused, Available: left[o.Workspace].Available}
	said.Most = o.most(costs)
	said.Left, said.Missing = max(0, said.Available-said.Most), max(0, said.Most-said.Available)
	return said, true, err
}

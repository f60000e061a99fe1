package allowance

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/ledger"
	"varnet/internal/store"
)

// Due does what has come due: what plans grant, what expires, what is left set aside.
func (d *Desk) Due(ctx context.Context) error {
	if err := d.CloseEnded(ctx, 0); err != nil {
		return err
	}
	if err := d.expire(ctx); err != nil {
		return err
	}
	all, err := d.Store.Allowances(ctx)
	now := d.Now()
	for _, a := range all {
		if err == nil && !a.GrantDue().After(now) {
			err = d.grantDue(ctx, a.WorkspaceID)
		}
	}
	return err
}

// BuyDue buys what is bought by itself, and has paid back what was paid too often. It waits for the payment
// provider, and so is not part of Due; what can't be done now is logged and tried again.
func (d *Desk) BuyDue(ctx context.Context, base string) error {
	if err := d.returnDue(ctx); err != nil && !errors.Is(err, ErrClosed) {
		return err
	}
	all, err := d.Store.Allowances(ctx)
	if err != nil {
		return err
	}
	available, err := d.Store.Availables(ctx)
	if err != nil {
		return err
	}
	for _, a := range all {
		if err := d.buyDue(ctx, a, available[a.WorkspaceID], base); err != nil {
			d.Log.Warn("checks could not be bought", "workspace", a.WorkspaceID, "err", err)
		}
	}
	return nil
}

// grantDue gives what the plan grants for the months that have begun.
func (d *Desk) grantDue(ctx context.Context, workspace int64) error {
	return d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		a, err := s.LockAllowance(ctx, workspace)
		if err != nil {
			return err
		}
		return d.grant(ctx, s, tx, a)
	})
}

// grant is grantDue for an allowance that is locked.
func (d *Desk) grant(ctx context.Context, s *store.Store, tx pgx.Tx, a store.Allowance) error {
	now, first := d.Now(), a.Grants
	for ; !a.GrantDue().After(now); a.Grants++ {
	}
	if a.Grants == first {
		return nil
	}
	if err := s.SetAllowance(ctx, a); err != nil || a.Plan.Grant == 0 {
		return err
	}
	for month := first; month < a.Grants; month++ {
		l := a.Plan.Lot(ledger.Month(a.Since, month))
		if !l.ExpiresAt.IsZero() && !l.ExpiresAt.After(now) {
			continue // it came and went while the service was down
		}
		if _, err := d.add(ctx, s, tx, a.WorkspaceID, l, ledger.Grant, a.Plan.Name); err != nil {
			return err
		}
	}
	return nil
}

// kept returns the allowance of a workspace with what has come due: somebody who has just signed up
// waits for no job. is is false where none is kept.
func (d *Desk) kept(ctx context.Context, workspace int64) (a store.Allowance, is bool, err error) {
	a, is, err = Kept(ctx, d.Store, workspace)
	if err == nil && is && !a.GrantDue().After(d.Now()) {
		if err = d.grantDue(ctx, workspace); err == nil {
			a, is, err = Kept(ctx, d.Store, workspace)
		}
	}
	return a, is, err
}

// expire takes lots out of the books that are over.
func (d *Desk) expire(ctx context.Context) error {
	over, err := d.Store.WithExpiredLots(ctx, d.Now())
	for _, workspace := range over {
		if err != nil {
			return err
		}
		err = d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
			h, err := s.HoldBook(ctx, workspace)
			if err != nil {
				return err
			}
			h.Expire(d.Now())
			if err := s.SaveBook(ctx, workspace, h.Book, "", d.Now()); err != nil || !h.Kept {
				return err
			}
			return d.tellLow(ctx, s, tx, h.Allowance, h.Balance())
		})
	}
	return err
}

const (
	// refillDays are the days in which refills are counted.
	refillDays = 30
	// refillRest is for how long none is bought after one that was refused, and a payment is waited for.
	refillRest = 24 * time.Hour
)

// buyDue buys what the subscription and the refill of a workspace want now. While one waits for its
// payment, and for a day after one was refused, no refill is bought.
func (d *Desk) buyDue(ctx context.Context, a store.Allowance, available int64, base string) error {
	if a.Method == "" {
		return nil
	}
	now := d.Now()
	if a.Subscription > 0 && !a.RenewalDue().After(now) {
		if ok, err := d.Store.Renewed(ctx, a.WorkspaceID, a.Renewals); err != nil || !ok {
			return err
		}
		_, err := d.Buy(ctx, Buying{Workspace: a.WorkspaceID, Checks: a.Subscription, Why: ledger.Subscription, Base: base})
		return err
	}
	if a.Refill == nil || available >= a.Refill.Under {
		return nil
	}
	lately, waits, err := d.Store.Lately(ctx, a.WorkspaceID, ledger.Refill, now.AddDate(0, 0, -refillDays), now.Add(-refillRest))
	if err != nil || waits || !a.Refill.Due(available, lately) {
		return err
	}
	_, err = d.Buy(ctx, Buying{Workspace: a.WorkspaceID, Checks: a.Refill.Buy, Why: ledger.Refill, Base: base})
	return err
}

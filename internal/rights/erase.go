package rights

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"varnet/core/say"
	"varnet/internal/store"
)

// NotErased tells that an address to be allowed again was not erased.
type NotErased struct{}

func (NotErased) Error() string {
	return "This address was not erased in this workspace: it may be kept as it is."
}

// Order records that an address is to be erased, or may be kept again; begin is called in the
// transaction that records an erasure. By then the address is neither kept nor asked about any
// more where it comes in; Erase takes out what is there.
func (d *Desk) Order(ctx context.Context, workspace int64, typed, kind, byWhom string, begin func(pgx.Tx, int64) error) (r store.Request, err error) {
	sub, err := d.subject(typed)
	if err != nil {
		return r, err
	}
	key, err := d.newKey(ctx, workspace)
	if err != nil {
		return r, err
	}
	r = store.Request{WorkspaceID: workspace, Kind: kind, Fingerprint: print(key, sub.identity), State: store.RequestDone, ByWhom: byWhom}
	return r, d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		switch kind {
		case store.RequestAllow:
			if err := s.DropErased(ctx, workspace, r.Fingerprint); errors.Is(err, store.ErrNotFound) {
				return NotErased{}
			} else if err != nil {
				return err
			}
		case store.RequestErase:
			r.State, r.Sealed = store.RequestWorking, d.Secrets.Seal(sub.Mailbox(), addressPurpose)
		}
		if err := s.NewRequest(ctx, &r); err != nil || kind != store.RequestErase {
			return err
		}
		return begin(tx, r.ID)
	})
}

// Erase takes an address out of a workspace: first it becomes one that is not kept, then list by
// list, each in a transaction of its own, then all the rest. again tells that something of it is
// in hand at this moment and Erase is to be called once more in a while.
func (d *Desk) Erase(ctx context.Context, id int64) (again bool, err error) {
	r, err := d.Store.RequestAtWork(ctx, id)
	if err != nil || r.State == store.RequestDone {
		return false, err
	}
	mailbox, err := d.Secrets.Open(r.Sealed, addressPurpose)
	if err != nil {
		return false, err
	}
	sub, err := d.subject(mailbox)
	if err != nil {
		return false, err
	}
	err = d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error { return s.AddErased(ctx, r.WorkspaceID, r.Fingerprint) })
	if err != nil {
		return false, err
	}
	lists, err := d.Store.AllLists(ctx, r.WorkspaceID)
	if err != nil {
		return false, err
	}
	spelled := []string{sub.Canonical()}
	var waits []string
	for _, l := range lists {
		some, err := d.eraseList(ctx, &r, l.ID, sub)
		switch spelled = append(spelled, some...); {
		case errors.Is(err, store.ErrInHand):
			waits = append(waits, "“"+l.Name+"”")
		case errors.Is(err, store.ErrNotFound): // it was deleted meanwhile
		case err != nil:
			return false, err
		}
	}
	pages, err := d.Store.PagesWaiting(ctx, r.WorkspaceID)
	if err != nil {
		return false, err
	}
	if pages {
		waits = append(waits, "what is being imported from a connection")
	}
	slices.Sort(spelled)
	if err := d.eraseElsewhere(ctx, &r, sub, slices.Compact(spelled), len(waits) == 0); err != nil {
		return false, err
	}
	if len(waits) > 0 {
		r.Says = fmt.Sprintf("Something is at work on %s; the address is erased there as soon as that has let go of it.", say.SomeAnd(waits, 3))
	}
	return len(waits) > 0, d.Store.SetRequest(ctx, r)
}

// eraseList erases an address of a list, together with what the request counts, and returns its
// spellings there.
func (d *Desk) eraseList(ctx context.Context, r *store.Request, list int64, sub subject) (spelled []string, err error) {
	now := *r
	err = d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		x, results, err := s.Erase(ctx, list, sub.eraser)
		if err != nil {
			return err
		}
		if spelled = x.Spelled(); len(x.Rows()) == 0 {
			return nil
		}
		now.Lists, now.Rows, now.Results = r.Lists+1, r.Rows+int64(x.Blank()), r.Results+results
		return s.SetRequest(ctx, now)
	})
	if err == nil {
		*r = now
	}
	return spelled, err
}

// eraseElsewhere erases what there is beside lists. It ends the request where nothing is left.
func (d *Desk) eraseElsewhere(ctx context.Context, r *store.Request, sub subject, spelled []string, last bool) error {
	return d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		n, err := s.EraseElsewhere(ctx, r.WorkspaceID, sub.eraser, sub.domain, spelled)
		if err != nil {
			return err
		}
		if r.Elsewhere += n; last {
			r.State, r.Says = store.RequestDone, done(*r)
		}
		return nil
	})
}

// done says what an erasure did.
func done(r store.Request) string {
	if r.Rows+r.Results+r.Elsewhere == 0 {
		return "Nothing was held about the address. It is neither kept nor asked about when it comes."
	}
	return fmt.Sprintf("%s of %s are blank; %s and %s beside lists were erased. The address is neither kept nor asked about when it comes again.",
		say.Rows(r.Rows), say.Plural(int64(r.Lists), "list", "lists"), say.Plural(r.Results, "result", "results"), say.Plural(r.Elsewhere, "record", "records"))
}

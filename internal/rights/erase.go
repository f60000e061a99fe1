package rights

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

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
// transaction that records an erasure, which Erase then does.
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

// Erase takes an address out of a workspace: first it becomes one that is not kept, then it is taken
// out of all that stands beside lists, by all its spellings in them, then out of list by list, each
// in a transaction of its own. again tells that something of it is in hand at this moment and Erase
// is to be called once more in a while. Called again after it broke off, it goes on.
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
	if err := d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error { return s.AddErased(ctx, r.WorkspaceID, r.Fingerprint) }); err != nil {
		return false, err
	}
	lists, spelled, err := d.holding(ctx, r.WorkspaceID, sub)
	if err != nil {
		return false, err
	}
	if err := d.eraseElsewhere(ctx, &r, sub, spelled); err != nil {
		return false, err
	}
	waits, err := d.eraseLists(ctx, &r, lists, sub)
	if err != nil {
		return false, err
	}
	if again = len(waits) > 0; again {
		r.Says = fmt.Sprintf("The address is in use in %s; it is erased there as soon as the run or import is done with it.", say.SomeAnd(waits, 3))
	} else {
		r.State, r.Says = store.RequestDone, done(r)
	}
	return again, d.Store.SetRequest(ctx, r)
}

// holding returns what the lists of a workspace hold of an address, and its canonical spellings in them.
func (d *Desk) holding(ctx context.Context, workspace int64, sub subject) (lists []*store.Erasure, spelled []string, err error) {
	all, err := d.Store.AllLists(ctx, workspace)
	if err != nil {
		return nil, nil, err
	}
	spelled = []string{sub.Canonical()}
	for _, l := range all {
		x, err := d.Store.ToErase(ctx, l, sub.eraser)
		if err != nil {
			return nil, nil, err
		}
		if len(x.Rows()) > 0 {
			lists, spelled = append(lists, x), append(spelled, x.Spelled()...)
		}
	}
	slices.Sort(spelled)
	return lists, slices.Compact(spelled), nil
}

// eraseLists erases an address of lists, and returns what it has to wait for.
func (d *Desk) eraseLists(ctx context.Context, r *store.Request, lists []*store.Erasure, sub subject) (waits []string, err error) {
	for _, x := range lists {
		switch err := d.eraseList(ctx, r, x.List.ID, sub); {
		case errors.Is(err, store.ErrInHand):
			waits = append(waits, "“"+x.List.Name+"”")
		case errors.Is(err, store.ErrNotFound): // it was deleted meanwhile
		case err != nil:
			return nil, err
		}
	}
	pages, err := d.Store.PagesWaiting(ctx, r.WorkspaceID)
	if pages {
		waits = append(waits, "what is being imported from a connection")
	}
	return waits, err
}

// eraseList erases an address of a list, together with what the request counts.
func (d *Desk) eraseList(ctx context.Context, r *store.Request, list int64, sub subject) error {
	now := *r
	err := d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		x, results, err := s.Erase(ctx, list, sub.eraser)
		if err != nil || len(x.Rows()) == 0 {
			return err
		}
		now.Lists, now.Rows, now.Results = r.Lists+1, r.Rows+int64(x.Blank()), r.Results+results
		return s.SetRequest(ctx, now)
	})
	if err == nil {
		*r = now
	}
	return err
}

// eraseElsewhere erases what there is beside lists, together with what the request counts.
func (d *Desk) eraseElsewhere(ctx context.Context, r *store.Request, sub subject, spelled []string) error {
	return d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		n, err := s.EraseElsewhere(ctx, r.WorkspaceID, sub.eraser, sub.domain, spelled)
		if err != nil {
			return err
		}
		r.Elsewhere += n
		return s.SetRequest(ctx, *r)
	})
}

// done says what an erasure did.
func done(r store.Request) string {
	if r.Rows+r.Results+r.Elsewhere == 0 {
		return "Nothing was held about the address. It is neither kept nor asked about when it comes."
	}
	var did, erased []string
	if r.Rows > 0 {
		lists := say.Plural(int64(r.Lists), "list", "lists")
		did = append(did, say.Plural(r.Rows, "row of "+lists+" is blank", "rows of "+lists+" are blank"))
	}
	if r.Results > 0 {
		erased = append(erased, say.Plural(r.Results, "result", "results"))
	}
	if r.Elsewhere > 0 {
		erased = append(erased, say.Plural(r.Elsewhere, "other record", "other records"))
	}
	switch r.Results + r.Elsewhere {
	case 0:
	case 1:
		did = append(did, erased[0]+" was erased")
	default:
		did = append(did, say.And(erased...)+" were erased")
	}
	return strings.Join(did, "; ") + ". The address is neither kept nor asked about when it comes again."
}

package workshop

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strconv"
	"sync"
	"time"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/policy"
	"varnet/core/workshop"
	"varnet/internal/decide"
	"varnet/internal/intake"
	"varnet/internal/store"
)

// Workshop makes lists from lists.
type Workshop struct {
	Store     *store.Store
	Importer  *intake.Importer
	Grammar   address.Grammar
	Catalogue func(ctx context.Context, workspace int64) (*catalogue.Catalogue, error)
	Now       func() time.Time
	// Country is the country of an IP address; nil: the installation cannot tell.
	Country func(ip string) string
}

// table is a list as a table; with known results, if they are wanted. read is called as rows are
// read.
func (w *Workshop) table(ctx context.Context, l store.List, known bool, read func() error) workshop.Table {
	t := workshop.Table{Name: l.Name, Columns: l.Columns, Kinds: l.Kinds, Addresses: distinct(l.AddressColumns), Written: &l.Dialect, Head: l.Header}
	kept := l.Dialect.Kept()
	told := sync.OnceValues(func() (func(*store.OutRow) *workshop.Known, error) {
		if !known {
			return func(*store.OutRow) *workshop.Known { return nil }, nil
		}
		return w.known(ctx, l)
	})
	t.Rows = func() iter.Seq2[workshop.Row, error] {
		return func(yield func(workshop.Row, error) bool) {
			tell, err := told()
			if err != nil {
				yield(workshop.Row{}, err)
				return
			}
			err = w.Store.EachRow(ctx, store.Run{}, l, store.OutWith{Domains: known}, func(r *store.OutRow) error {
				if err := read(); err != nil {
					return err
				}
				row := workshop.RawRow(r.Raw, &kept)
				row.Known = tell(r)
				if !yield(row, nil) {
					return store.ErrEnough
				}
				return nil
			})
			if err != nil {
				yield(workshop.Row{}, err)
			}
		}
	}
	return t
}

// known tells of the rows of a list what the workspace's runs found of their addresses, and what
// is decided about them: by the policy of the list's last run, or else by the careful one.
func (w *Workshop) known(ctx context.Context, l store.List) (func(*store.OutRow) *workshop.Known, error) {
	found, err := w.Store.Known(ctx, l)
	if err != nil {
		return nil, err
	}
	p := policy.Careful()
	runs, err := w.Store.LastRuns(ctx, l.WorkspaceID, []int64{l.ID})
	if err != nil {
		return nil, err
	}
	if last, ok := runs[l.ID]; ok {
		p = last.Policy
	}
	d, err := decide.New(ctx, w.Store, store.Run{WorkspaceID: l.WorkspaceID, ListID: l.ID}, l, p)
	if err != nil {
		return nil, err
	}
	active, err := w.Store.Activity(ctx, l)
	if err != nil {
		return nil, err
	}
	return func(r *store.OutRow) *workshop.Known {
		for i := range r.Cells {
			c := &r.Cells[i]
			c.Verdict, c.At = found.Of(c.Address)
			c.Operator = found.Operators[c.Domain]
		}
		c, ok := d.Contact(r)
		if !ok {
			return &workshop.Known{Active: lastActive(active, r)}
		}
		k := &workshop.Known{Active: lastActive(active, r), Finding: string(c.Verdict.Finding), Cause: string(c.Verdict.Cause), Decision: string(c.Decision), Operator: c.Operator, Checked: c.Checked}
		for _, t := range c.Verdict.Traits {
			k.Traits = append(k.Traits, string(t))
		}
		return k
	}, nil
}

// lastActive is when something was seen last of an address of a row.
func lastActive(a *store.Activity, r *store.OutRow) (at time.Time) {
	for i := range r.Cells {
		if seen := a.Of(r.Cells[i].Address); seen.At.After(at) {
			at = seen.At
		}
	}
	return at
}

// Named returns a list by its number as text; the newest of those that files were imported for.
func (w *Workshop) Named(ctx context.Context, workspace int64, name string) (store.List, error) {
	id, err := strconv.ParseInt(name, 10, 64)
	if err != nil {
		return store.List{}, fmt.Errorf("%q is not the number of a list", name)
	}
	l, err := w.Store.NewestImport(ctx, workspace, id)
	if errors.Is(err, store.ErrNotFound) {
		return l, fmt.Errorf("there is no list %d any more; choose another one", id)
	}
	return l, err
}

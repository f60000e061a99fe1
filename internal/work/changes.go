package work

import (
	"context"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"varnet/core/say"
	"varnet/internal/connect"
	"varnet/internal/connect/kinds"
	"varnet/internal/store"
)

// changes imports what has changed since the collection was imported before, where the place tells
// that; it reports whether that was all. Otherwise it notes how the collection stands, before it is
// read from the beginning: what changes meanwhile is told the next time.
func (c *collecting) changes(ctx context.Context, place connect.Place) (done bool, err error) {
	p, ok := place.(connect.Changes)
	if !ok || c.i.Pages > 0 {
		return false, nil
	}
	if c.i.EarlierID != nil {
		before, err := c.engine.Store.ImportOf(ctx, *c.i.EarlierID)
		if token, ours := strings.CutPrefix(before.Tag, c.tokenOf()); err == nil && ours {
			d, ok, err := p.Since(ctx, c.i.Collection, token)
			if err != nil || ok {
				return ok, errors.Join(err, c.changed(ctx, d, ok))
			}
		} else if err != nil && !errors.Is(err, store.ErrNotFound) {
			return false, err
		}
	}
	token, err := p.Token(ctx, c.i.Collection)
	if err != nil || token == "" {
		return false, err
	}
	c.i.Tag = c.tokenOf() + token
	return false, c.engine.Store.SetImport(ctx, c.i)
}

// tokenOf is put before a token of changes, and says what it is of: the connection may lead elsewhere the next time, where
// the same token would mean something else.
func (c *collecting) tokenOf() string {
	k, _ := kinds.Of(c.kept.Kind)
	where := c.i.Collection
	if k.Leads != nil {
		where += "\n" + k.Leads(c.kept.Settings)
	}
	sum := sha256.Sum256([]byte(where))
	return hex.EncodeToString(sum[:8]) + " "
}

// changed makes a list of the earlier one and what has changed since.
func (c *collecting) changed(ctx context.Context, d connect.Difference, ok bool) error {
	if !ok {
		return nil
	}
	before, err := c.engine.Store.List(ctx, c.i.WorkspaceID, *c.i.EarlierID)
	if err != nil {
		return err
	}
	c.i.Tag, c.i.Addresses = c.tokenOf()+d.Token, max(1, len(before.AddressColumns))
	for i, name := range before.Columns {
		if i > 0 && !slices.Contains(before.AddressColumns, i) {
			c.i.Columns = append(c.i.Columns, name)
		}
	}
	c.widen(d.Changed)
	c.i.Says = fmt.Sprintf("Only what has changed was read: %s changed or new, %s gone.", say.Number(int64(len(d.Changed))), say.Number(int64(len(d.Gone))))
	names, addresses := c.columns()
	r, w := io.Pipe()
	defer r.Close()
	go func() { _ = w.CloseWithError(c.merge(ctx, w, names, before, d)) }()
	return c.become(ctx, c.i.CollectionName+".csv", addresses, r)
}

// merge writes the rows of the earlier list as CSV: those that have changed as they are now, none
// that is gone, and then those that are new.
func (c *collecting) merge(ctx context.Context, to io.Writer, names []string, before store.List, d connect.Difference) error {
	out := csv.NewWriter(to)
	if err := out.Write(names); err != nil {
		return err
	}
	records := c.records(names)
	changed, gone := map[string]int{}, map[string]bool{}
	for _, key := range d.Gone {
		gone[key] = true
	}
	for i, one := range d.Changed {
		changed[one.Key] = i
	}
	written := make([]bool, len(d.Changed))
	dialect := before.Dialect.Kept()
	err := c.engine.Store.Bulk().EachRow(ctx, store.Run{}, before, store.OutWith{}, func(r *store.OutRow) error {
		cells := dialect.Cells(r.Raw)
		key := ""
		if len(cells) > 0 {
			key = cells[0]
		}
		if i, ok := changed[key]; ok {
			written[i] = true
			return out.Write(records.of(d.Changed[i]))
		}
		if gone[key] {
			return nil
		}
		return out.Write(records.of(asContact(before, cells)))
	})
	for i, one := range d.Changed {
		if err == nil && !written[i] {
			err = out.Write(records.of(one))
		}
	}
	return errors.Join(err, flushed(out))
}

// asContact is a row of a list that came from a connection as the contact that it was.
func asContact(l store.List, cells []string) connect.Contact {
	one := connect.Contact{}
	for i, v := range cells {
		switch {
		case i == 0:
			one.Key = v
		case slices.Contains(l.AddressColumns, i):
			one.Addresses = append(one.Addresses, v)
		case i < len(l.Columns):
			one.Cells = append(one.Cells, connect.Cell{Name: l.Columns[i], Value: v})
		}
	}
	return one
}

// records are contacts as the records of a list.
type records struct {
	first int // column of the fields
	place map[string]int
	width int
}

func (c *collecting) records(names []string) records {
	r := records{first: 1 + max(1, c.i.Addresses), place: map[string]int{}, width: len(names)}
	for i, n := range c.i.Columns {
		r.place[n] = r.first + i
	}
	return r
}

func (r records) of(one connect.Contact) []string {
	out := make([]string, r.width)
	out[0] = connect.Text(one.Key)
	for i, a := range connect.InColumns(one.Addresses) {
		out[1+i] = connect.Text(a)
	}
	for _, cell := range one.Cells {
		out[r.place[cell.Name]] = connect.Text(cell.Value)
	}
	return out
}

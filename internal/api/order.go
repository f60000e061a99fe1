package api

import (
	"bytes"
	"context"
	"slices"
	"sync"

	"varnet/core/sheet"
	"varnet/internal/store"
)

// orders remembers in what order the rows of lists come by a column. The rows of
// a list change by erasures alone, so that an order holds until the next of them.
type orders struct {
	mu    sync.Mutex
	known []*listOrder // the last used last
}

// maxOrders bounds the memory: an order takes 4 bytes a row, and 28 while it is
// made.
const maxOrders = 4

type listOrder struct {
	list     int64
	erasures int32
	column   int
	once     sync.Once
	rows     []int32 // the numbers of the rows, from 1
	err      error
}

// of returns the order of a list's rows by a column, and makes it where it is new.
func (o *orders) of(l store.List, column int, made func() ([]int32, error)) ([]int32, error) {
	o.mu.Lock()
	i := slices.IndexFunc(o.known, func(k *listOrder) bool {
		return k.list == l.ID && k.erasures == l.Erasures && k.column == column && k.err == nil
	})
	k := &listOrder{list: l.ID, erasures: l.Erasures, column: column}
	if i >= 0 {
		k = o.known[i]
		o.known = slices.Delete(o.known, i, i+1)
	}
	o.known = append(o.known, k)
	o.known = o.known[max(0, len(o.known)-maxOrders):]
	o.mu.Unlock()
	k.once.Do(func() { k.rows, k.err = made() })
	return k.rows, k.err
}

// orderOf returns the numbers of a list's rows in the order of a column.
func (a *API) orderOf(ctx context.Context, l store.List, column int) ([]int32, error) {
	return a.orders.of(l, column, func() ([]int32, error) {
		kind, kept := sheet.KindAt(l.Kinds, column), l.Dialect.Kept()
		type ranked struct {
			rank sheet.Rank
			row  int32
		}
		all := make([]ranked, 0, l.Rows)
		err := a.store.EachRow(context.WithoutCancel(ctx), store.Run{}, l, store.OutWith{}, func(r *store.OutRow) error {
			all = append(all, ranked{kind.Rank(kept.Cell(r.Raw, column)), r.Number})
			return nil
		})
		slices.SortStableFunc(all, func(x, y ranked) int { return bytes.Compare(x.rank[:], y.rank[:]) })
		rows := make([]int32, len(all))
		for i, r := range all {
			rows[i] = r.row
		}
		return rows, err
	})
}

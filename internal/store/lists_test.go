package store_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"varnet/core/sheet"
	"varnet/internal/store"
)

// TestListsArePaged to their end in every order, with what is looked for, while lists come
// and go: each that was there all the time comes once.
func TestListsArePaged(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	add := func(name string, rows int) int64 {
		l := store.List{WorkspaceID: w, Name: name, Columns: []string{"e-mail"}, AddressColumns: []int{0}, Header: []byte{}, Kinds: []sheet.Kind{}}
		if err := s.CreateList(ctx, &l); err != nil {
			t.Fatal(err)
		}
		if _, err := s.Pool().Exec(ctx, "UPDATE list SET rows = $2 WHERE id = $1", l.ID, rows); err != nil {
			t.Fatal(err)
		}
		return l.ID
	}
	var all []int64
	for i := range 47 {
		all = append(all, add(fmt.Sprintf("%s 100%% %02d", []string{"Spring", "autumn", "Winter"}[i%3], i), i%5*100))
	}
	key := map[store.ListOrder]func(store.List) string{
		store.NewestFirst:  func(l store.List) string { return fmt.Sprintf("%09d", 1_000_000-l.ID) },
		store.ByName:       func(l store.List) string { return strings.ToLower(l.Name) },
		store.LargestFirst: func(l store.List) string { return fmt.Sprintf("%09d %09d", 1_000_000-l.Rows, 1_000_000-l.ID) },
	}
	for order, by := range key {
		for search, want := range map[string]int{"": 47, "AUTUMN": 16, "100% 0": 10, "%": 47, "no such": 0} {
			f := store.ListFilter{Search: search, Order: order, Limit: 7}
			var seen []string
			ids := map[int64]bool{}
			for {
				page, err := s.Lists(ctx, w, f)
				if err != nil {
					t.Fatal(err)
				}
				for _, l := range page {
					if slices.Contains(all, l.ID) {
						seen = append(seen, by(l))
						ids[l.ID] = true
					}
				}
				if len(page) < f.Limit {
					break
				}
				last := page[len(page)-1]
				f.After = store.ListPlace{ID: last.ID, Name: last.Name, Rows: last.Rows}
				extra := add("Winter, meanwhile", 250)
				if err := s.DeleteList(ctx, w, extra); err != nil {
					t.Fatal(err)
				}
			}
			if len(ids) != want || len(seen) != want || !slices.IsSorted(seen) {
				t.Errorf("%s, %q: %d of %d, in order: %v", order, search, len(ids), want, slices.IsSorted(seen))
			}
		}
	}
}

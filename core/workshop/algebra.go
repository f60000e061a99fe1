package workshop

import (
	"sync"
	"time"
)

// A rank tells a row among those of several tables: the place of its table, and its number
// there from 1.
const rankBits = 40

func rankOf(table int, at int64) uint64 { return uint64(table)<<rankBits | uint64(at) }

func placeOf(rank uint64) (table int, at int64) {
	return int(rank >> rankBits), int64(rank & (1<<rankBits - 1))
}

// keyed are the keys of the rows of tables, in order.
type keyed struct {
	spill   *Spill
	tables  []Table
	matches []Match
	// first: of a row with several keys only the first counts.
	first bool
	// dates reads when a row is from, for each table; nil: no matter.
	dates []func(Row) (time.Time, bool)
}

// none is when a row without a date is from: before all others.
const none = int64(-1 << 62)

// each returns the records of all keys, those with the same key one after the other in the order
// of their rows; begins is true for the first of them.
func (k keyed) each(do func(r record, begins bool) error) error {
	sort := k.spill.sorter()
	var keys []key
	for n, t := range k.tables {
		err := t.each(func(at int64, row Row) error {
			keys = k.matches[n].keys(row, keys[:0])
			if k.first {
				keys = keys[:min(len(keys), 1)]
			}
			if len(keys) == 0 {
				return nil
			}
			when := none
			if k.dates != nil && k.dates[n] != nil {
				if at, ok := k.dates[n](row); ok {
					when = at.Unix()
				}
			}
			for _, one := range keys {
				if err := sort.add(record{one, rankOf(n, at), when}); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	var before key
	begins := true
	for r, err := range sort.sorted() {
		if err != nil {
			return err
		}
		if err := do(r, begins || r.key != before); err != nil {
			return err
		}
		before, begins = r.key, false
	}
	return nil
}

// met are, for each table, which of its rows have a key that stands in another row: anywhere,
// or (apart) in another table.
func (k keyed) met(apart bool) ([]bits, error) {
	marks := make([]bits, len(k.tables))
	mark := func(rank uint64) {
		n, at := placeOf(rank)
		marks[n].set(at)
	}
	var alone []uint64 // the rows with the key so far, while nothing met
	table, meets := 0, false
	err := k.each(func(r record, begins bool) error {
		n, _ := placeOf(r.rank)
		if begins {
			alone, table, meets = append(alone[:0], r.rank), n, false
			return nil
		}
		if meets = meets || !apart || n != table; !meets {
			alone = append(alone, r.rank)
			return nil
		}
		for _, one := range alone {
			mark(one)
		}
		alone = alone[:0]
		mark(r.rank)
		return nil
	})
	return marks, err
}

// othersFirst puts the first table behind the others, so that what stands in those is known when
// its rows come.
func othersFirst(tables []Table, matches []Match) ([]Table, []Match) {
	return append(append([]Table{}, tables[1:]...), tables[0]), append(append([]Match{}, matches[1:]...), matches[0])
}

// among are, for each table but the first, which rows of the first have a key that stands there.
func among(s *Spill, tables []Table, matches []Match) ([]bits, error) {
	turned, by := othersFirst(tables, matches)
	found := make([]bits, len(tables)-1)
	in := uint32(0) // which of the others hold the key
	err := keyed{spill: s, tables: turned, matches: by}.each(func(r record, begins bool) error {
		if begins {
			in = 0
		}
		n, at := placeOf(r.rank)
		if n < len(found) {
			in |= 1 << n
			return nil
		}
		for other := range found {
			if in&(1<<other) != 0 {
				found[other].set(at)
			}
		}
		return nil
	})
	return found, err
}

// Without are the rows of the first table of which no key stands in the others. Rows that have
// nothing to compare by stay.
func Without(s *Spill, tables []Table, matches []Match) (Table, error) {
	return inOthers(s, tables, matches, func(found []bits, at int64) bool {
		for _, b := range found {
			if b.has(at) {
				return false
			}
		}
		return true
	})
}

// Both are the rows of the first table of which a key stands in each of the others.
func Both(s *Spill, tables []Table, matches []Match) (Table, error) {
	return inOthers(s, tables, matches, func(found []bits, at int64) bool {
		for _, b := range found {
			if !b.has(at) {
				return false
			}
		}
		return true
	})
}

func inOthers(s *Spill, tables []Table, matches []Match, fits func(found []bits, at int64) bool) (Table, error) {
	if err := checkTables(tables, matches, 2); err != nil {
		return Table{}, err
	}
	found := sync.OnceValues(func() ([]bits, error) { return among(s, tables, matches) })
	return tables[0].chosen(func() (func(int64, Row) bool, error) {
		b, err := found()
		return func(at int64, _ Row) bool { return fits(b, at) }, err
	}), nil
}

// Duplicates are those rows of a table of which a key stands in another of its rows, too.
func Duplicates(s *Spill, t Table, m Match) (Table, error) {
	if err := checkTables([]Table{t}, []Match{m}, 1); err != nil {
		return Table{}, err
	}
	met := sync.OnceValues(func() ([]bits, error) {
		return keyed{spill: s, tables: []Table{t}, matches: []Match{m}}.met(false)
	})
	return t.chosen(func() (func(int64, Row) bool, error) {
		b, err := met()
		if err != nil {
			return nil, err
		}
		return func(at int64, _ Row) bool { return b[0].has(at) }, nil
	}), nil
}

package workshop

import (
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"
	"time"

	"varnet/core/sheet"
)

// Joined are the columns of several tables put together: those of the first, and of each other
// table those that no table before has by the same name.
type Joined struct {
	Columns   []string
	Kinds     []sheet.Kind
	Addresses []int
	// From is, for each table, where its columns stand in the joined ones.
	From [][]int
}

// Alias says that a column of a table is that of the tables before it, however it is called.
type Alias struct{ Column, As string }

// Join puts the columns of tables together by their names; aliases overrule that. A column that
// holds addresses goes to the first of such, where there is none of its name.
func Join(tables []Table, aliases []Alias) (j Joined, err error) {
	for n, t := range tables {
		from, taken := make([]int, len(t.Columns)), map[int]bool{}
		for c, name := range t.Columns {
			from[c] = -1
			i := slices.IndexFunc(aliases, func(a Alias) bool { return n > 0 && sameName(a.Column, name) })
			if i < 0 {
				continue
			}
			to, err := (Table{Name: "before it", Columns: j.Columns}).Column(aliases[i].As)
			if err != nil || taken[to] {
				return j, fmt.Errorf("the column %q of the list %s cannot be put to the column %q: the lists before it have no such column, or another one stands for it", name, t.Name, aliases[i].As)
			}
			from[c], taken[to] = to, true
		}
		for c, name := range t.Columns {
			if from[c] < 0 {
				from[c] = j.named(name, taken)
			}
			if from[c] >= 0 {
				taken[from[c]] = true
			}
		}
		for c := range t.Columns {
			if from[c] < 0 {
				from[c] = j.place(t, c, taken)
				taken[from[c]] = true
			}
		}
		j.From = append(j.From, from)
		for _, c := range t.Addresses {
			if to := from[c]; !slices.Contains(j.Addresses, to) {
				j.Addresses = append(j.Addresses, to)
			}
		}
	}
	return j, nil
}

// named is the first column with a name that is not taken; -1 for none.
func (j *Joined) named(name string, taken map[int]bool) int {
	for i, c := range j.Columns {
		if !taken[i] && name != "" && sameName(c, name) {
			return i
		}
	}
	return -1
}

// place is a new column, or for the column with the addresses the one that holds them already.
func (j *Joined) place(t Table, c int, taken map[int]bool) int {
	if len(t.Addresses) > 0 && t.Addresses[0] == c && len(j.Addresses) > 0 && !taken[j.Addresses[0]] {
		return j.Addresses[0]
	}
	kind := sheet.Kind{Type: sheet.Text}
	if c < len(t.Kinds) {
		kind = t.Kinds[c]
	}
	j.Columns, j.Kinds = append(j.Columns, t.Columns[c]), append(j.Kinds, kind)
	return len(j.Columns) - 1
}

// row is a row of a table under the joined columns. What stands past its last column stands past
// the last one of these.
func (j Joined) row(table int, r Row) Row {
	cells := r.Cells()
	row := make([]string, len(j.Columns))
	for c, to := range j.From[table] {
		if c < len(cells) {
			row[to] = cells[c]
		}
	}
	if past := len(j.From[table]); len(cells) > past {
		row = append(row, cells[past:]...)
	}
	return Row{Known: r.Known, cells: row, owned: true}
}

// alike reports whether the rows of all tables can stand as they are in one file.
func (j Joined) alike(tables []Table) bool {
	for n, t := range tables {
		if t.Written == nil || *t.Written != *tables[0].Written || len(t.Columns) != len(j.Columns) {
			return false
		}
		for c, to := range j.From[n] {
			if c != to {
				return false
			}
		}
	}
	return true
}

// Keep is which cells stand for several rows with the same key.
type Keep string

// The ways.
const (
	KeepFirst  Keep = "first"  // those of the first row
	KeepNewest Keep = "newest" // those of the row with the latest date
	KeepFilled Keep = "filled" // those of the first row, its empty ones filled from the others
)

// Merging is how tables are merged.
type Merging struct {
	Matches []Match
	Joined  Joined
	Keep    Keep
	// Dates are the columns that tell the newest row, for each table; -1: it has none, and its
	// rows are older than all others.
	Dates []int
}

// Merge are the rows of all tables in their order, and of those with the same key one. Of a row
// with several keys the first counts; rows that have nothing to compare by all stay.
func Merge(s *Spill, tables []Table, m Merging) (Table, error) {
	if err := checkTables(tables, m.Matches, 1); err != nil {
		return Table{}, err
	}
	k := keyed{spill: s, tables: tables, matches: m.Matches, first: true}
	switch m.Keep {
	case KeepFirst, KeepFilled:
	case KeepNewest:
		for n, t := range tables {
			if column := m.Dates[n]; column >= 0 {
				date := t.Date(column)
				k.dates = append(k.dates, func(r Row) (time.Time, bool) { return date(r.Cell(column)) })
			} else {
				k.dates = append(k.dates, nil)
			}
		}
	default:
		return Table{}, fmt.Errorf("on the same key the cells of the first, newest or filled row are kept, not of %q", m.Keep)
	}
	dropped := sync.OnceValues(func() (losers, error) { return k.losers(m.Keep == KeepFilled) })
	if m.Keep == KeepFilled {
		filling := sync.OnceValues(func() (*filling, error) {
			l, err := dropped()
			if err != nil {
				return nil, err
			}
			return fill(s, tables, m.Joined, l)
		})
		return stacked(tables, m.Joined, func() (pass, error) {
			f, err := filling()
			if err != nil {
				return pass{}, err
			}
			return f.pass(), nil
		}), nil
	}
	return stacked(tables, m.Joined, func() (pass, error) {
		l, err := dropped()
		return pass{fits: l.stands}, err
	}), nil
}

// OnePer is the first row of a table for each key, as of a domain or household.
func OnePer(s *Spill, t Table, m Match) (Table, error) {
	j, err := Join([]Table{t}, nil)
	if err != nil {
		return Table{}, err
	}
	return Merge(s, []Table{t}, Merging{Matches: []Match{m}, Joined: j, Keep: KeepFirst})
}

// losers are the rows for which another one stands.
type losers struct {
	marks []bits
	// pairs are each of them (key[0]) with the row that stands for it (key[1]), by rank.
	pairs *sorter
}

// losers tells them; pairs are wanted where cells are taken from them.
func (k keyed) losers(pairs bool) (losers, error) {
	l := losers{marks: make([]bits, len(k.tables)), pairs: k.spill.sorter()}
	var best record
	lose := func(r record) error {
		n, at := placeOf(r.rank)
		l.marks[n].set(at)
		if !pairs {
			return nil
		}
		return l.pairs.add(record{key: key{r.rank, best.rank}})
	}
	err := k.each(func(r record, begins bool) error {
		switch {
		case begins:
			best = r
			return nil
		case r.when > best.when:
			before := best
			best = r
			return lose(before)
		}
		return lose(r)
	})
	return l, err
}

// stands reports whether no other row stands for one.
func (l losers) stands(table int, at int64) bool { return !l.marks[table].has(at) }

// pass is one reading of stacked tables: which rows fit, and what becomes of their cells.
type pass struct {
	fits   func(table int, at int64) bool
	change func(rank uint64, r Row) (Row, error) // nil: nothing
	end    func()                                // nil: nothing
}

// stacked are the rows of all tables one after the other that fit.
func stacked(tables []Table, j Joined, begin func() (pass, error)) Table {
	raw := j.alike(tables)
	out := Table{Name: tables[0].Name, Columns: j.Columns, Kinds: j.Kinds, Addresses: j.Addresses}
	if raw {
		out.Written, out.Head = tables[0].Written, tables[0].Head
	}
	out.Rows = func() iter.Seq2[Row, error] {
		return func(yield func(Row, error) bool) {
			p, err := begin()
			if err != nil {
				yield(Row{}, err)
				return
			}
			if p.end != nil {
				defer p.end()
			}
			for n, t := range tables {
				at := int64(0)
				for row, err := range t.Rows() {
					at++
					if err == nil && !p.fits(n, at) {
						continue
					}
					if err == nil && !raw {
						row = j.row(n, row)
					}
					if err == nil && p.change != nil {
						row, err = p.change(rankOf(n, at), row)
					}
					if !yield(row, err) || err != nil {
						return
					}
				}
			}
		}
	}
	return out
}

// OnlyOne are the rows of all tables of which no key stands in another table.
func OnlyOne(s *Spill, tables []Table, matches []Match, j Joined) (Table, error) {
	if err := checkTables(tables, matches, 2); err != nil {
		return Table{}, err
	}
	met := sync.OnceValues(func() ([]bits, error) {
		return keyed{spill: s, tables: tables, matches: matches}.met(true)
	})
	return stacked(tables, j, func() (pass, error) {
		b, err := met()
		return pass{fits: func(table int, at int64) bool { return !b[table].has(at) }}, err
	}), nil
}

// empty reports whether a cell holds nothing but spaces.
func empty(cell string) bool { return strings.TrimSpace(cell) == "" }

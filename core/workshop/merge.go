package workshop

import (
	"fmt"
	"time"
)

// Joined are the columns of several tables put together: those of the first, and of each other
// table those that no table before has by the same name.
type Joined struct {
	Columns []string
	// From is, for each table, where its columns stand in the joined ones.
	From [][]int
}

// Join puts the columns of tables together by their names. by overrules it: for a table, the
// joined column that one of its columns is, both from 0.
func Join(tables []Table, by map[int]map[int]int) (j Joined, err error) {
	for n, t := range tables {
		from, taken := make([]int, len(t.Columns)), map[int]bool{}
		for c := range t.Columns {
			from[c] = -1
			if to, given := by[n][c]; given {
				if to < 0 || to >= len(j.Columns) || taken[to] {
					return j, fmt.Errorf("the column %q of the list %s cannot be put to column %d of the lists before it", t.Columns[c], t.Name, to+1)
				}
				from[c], taken[to] = to, true
			}
		}
		for c, name := range t.Columns {
			if from[c] >= 0 {
				continue
			}
			from[c] = j.place(name, taken)
			taken[from[c]] = true
		}
		j.From = append(j.From, from)
	}
	return j, nil
}

// place is the first column with a name that is not taken, or a new one.
func (j *Joined) place(name string, taken map[int]bool) int {
	for i, c := range j.Columns {
		if !taken[i] && name != "" && sameName(c, name) {
			return i
		}
	}
	j.Columns = append(j.Columns, name)
	return len(j.Columns) - 1
}

// row is a row of a table as one of the joined columns.
func (j Joined) row(table int, cells []string) []string {
	row := make([]string, len(j.Columns))
	for c, to := range j.From[table] {
		row[to] = Cell(cells, c)
	}
	return row
}

// Newest is the column of each table by which the newest of several rows is told, and how its
// cells are read.
type Newest struct {
	Columns []int // from 0; -1: the table has none, and its rows are older than all others
	Read    func(cell string) (time.Time, bool)
}

// Merge makes the rows of all tables in their order, and of those with the same key one: the
// first, or (with newest) the one whose date is the latest. Rows that have nothing to compare
// by all stay.
func Merge(tables []Table, matches []Match, j Joined, newest *Newest, out Out) (r Report, err error) {
	if err := checkTables(tables, matches, 1); err != nil {
		return r, err
	}
	keep := firstOf()
	if newest != nil {
		if len(newest.Columns) != len(tables) {
			return r, fmt.Errorf("%d lists are merged, and of %d it is said by which column the newest row is told", len(tables), len(newest.Columns))
		}
		if keep, err = newestOf(tables, matches, *newest); err != nil {
			return r, err
		}
	}
	for n, t := range tables {
		at := int64(0)
		for row, err := range t.Rows() {
			if err != nil {
				return r, err
			}
			at++
			kept := keep(n, at, matches[n].keys(row))
			r.add(n, len(tables), kept)
			if !kept {
				continue
			}
			if err := out(j.row(n, row)); err != nil {
				return r, err
			}
		}
	}
	return r, nil
}

// firstOf keeps the first row with a key. Of a row with several keys the first counts.
func firstOf() func(table int, at int64, keys []key) bool {
	seen := map[key]bool{}
	return func(_ int, _ int64, keys []key) bool {
		if len(keys) == 0 {
			return true
		}
		if seen[keys[0]] {
			return false
		}
		seen[keys[0]] = true
		return true
	}
}

// newestOf keeps the row with the latest date; of several with the same the first.
func newestOf(tables []Table, matches []Match, by Newest) (func(table int, at int64, keys []key) bool, error) {
	type best struct {
		when  int64 // in seconds; the smallest for none
		table int32
		at    int64
	}
	winners := map[key]best{}
	for n, t := range tables {
		at := int64(0)
		for row, err := range t.Rows() {
			if err != nil {
				return nil, err
			}
			at++
			keys := matches[n].keys(row)
			if len(keys) == 0 {
				continue
			}
			when := int64(-1 << 62)
			if read, ok := by.Read(Cell(row, by.Columns[n])); ok {
				when = read.Unix()
			}
			if b, there := winners[keys[0]]; !there || when > b.when {
				winners[keys[0]] = best{when, int32(n), at}
			}
		}
	}
	return func(table int, at int64, keys []key) bool {
		if len(keys) == 0 {
			return true
		}
		b := winners[keys[0]]
		return int(b.table) == table && b.at == at
	}, nil
}

// OnlyOne makes the rows of all tables of which no key stands in another table.
func OnlyOne(tables []Table, matches []Match, j Joined, out Out) (r Report, err error) {
	if err := checkTables(tables, matches, 2); err != nil {
		return r, err
	}
	k, err := learn(tables, matches, -1)
	if err != nil {
		return r, err
	}
	for n, t := range tables {
		for row, err := range t.Rows() {
			if err != nil {
				return r, err
			}
			found := uint32(0)
			for _, one := range matches[n].keys(row) {
				found |= k[one]
			}
			kept := found&^(1<<n) == 0
			r.add(n, len(tables), kept)
			if !kept {
				continue
			}
			if err := out(j.row(n, row)); err != nil {
				return r, err
			}
		}
	}
	return r, nil
}

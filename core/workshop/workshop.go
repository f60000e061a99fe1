// Package workshop makes lists from lists: it puts them together, takes one out of another, and
// strikes rows by terms. It reads tables row by row, as often as an operation needs, and holds
// keys in memory, never rows.
package workshop

import (
	"fmt"
	"iter"
	"strings"
)

// Table is rows with the same columns, which can be read anew each time.
type Table struct {
	Name    string
	Columns []string
	// Rows returns the rows in their order. A row may have fewer cells than there are columns,
	// or more; what stands in no column belongs to none.
	Rows func() iter.Seq2[[]string, error]
}

// Cell is the cell of a row in a column from 0; "" where the row ends before it.
func Cell(row []string, column int) string {
	if column < 0 || column >= len(row) {
		return ""
	}
	return row[column]
}

// Report counts what an operation did.
type Report struct {
	Read []int64 // rows of each table
	Kept int64
}

// add counts a row of a table.
func (r *Report) add(table, of int, kept bool) {
	if r.Read == nil {
		r.Read = make([]int64, of)
	}
	r.Read[table]++
	if kept {
		r.Kept++
	}
}

// Out takes the rows that an operation makes, in their order.
type Out func(row []string) error

// mostTables is how many tables an operation takes at once.
const mostTables = 32

func checkTables(tables []Table, matches []Match, least int) error {
	switch {
	case len(tables) < least:
		return fmt.Errorf("this takes %d lists, and %d are given", least, len(tables))
	case len(tables) > mostTables:
		return fmt.Errorf("this takes at most %d lists at once, and %d are given", mostTables, len(tables))
	case len(matches) != len(tables):
		return fmt.Errorf("%d lists are given, and for %d of them it is said by what their rows are the same", len(tables), len(matches))
	}
	for i, m := range matches {
		if err := m.check(tables[i]); err != nil {
			return err
		}
	}
	return nil
}

// sameName reports whether two columns have the same name: case, spaces and what stands for
// them do not count.
func sameName(a, b string) bool { return foldName(a) == foldName(b) }

func foldName(name string) string {
	return strings.Map(func(r rune) rune {
		if r == ' ' || r == '_' || r == '-' || r == '\t' || r == '.' {
			return -1
		}
		return r
	}, strings.ToLower(name))
}

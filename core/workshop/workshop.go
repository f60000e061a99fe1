// Package workshop makes lists from lists: it puts them together, takes one out of another,
// cuts slices, strikes rows by terms and tidies columns. It reads tables row by row, as often as
// an operation needs, and holds what it compares rows by, never rows.
//
// An operation takes tables and gives one whose rows are made as they are read, so that
// operations follow each other; Recipe is several of them under names of columns, as people save
// them.
package workshop

import (
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"time"

	"varnet/core/sheet"
)

// Table is rows with the same columns, which can be read anew each time.
type Table struct {
	Name    string
	Columns []string
	// Kinds are what the columns hold; a column past its end holds text.
	Kinds []sheet.Kind
	// Addresses are the columns that hold addresses, from 0.
	Addresses []int
	// Written is how the rows stand in their file, where they still do so; nil: their cells
	// are all there is.
	Written *sheet.Dialect
	// Head is what stands before the first row of that file.
	Head []byte
	// Rows returns the rows in their order. A row is good until the next. It may have fewer
	// cells than there are columns, or more; what stands in no column belongs to none.
	Rows func() iter.Seq2[Row, error]
}

// Row is a row of a table.
type Row struct {
	// Known is what is known of its address; nil: nothing.
	Known *Known

	cells   []string
	owned   bool // the cells are nobody else's
	raw     []byte
	dialect *sheet.Dialect
}

// Known is what is known of an address from outside its list.
type Known struct {
	Finding, Cause, Decision, Operator string
	Traits                             []string
	Checked, Active                    time.Time
}

// NewRow is a row of cells.
func NewRow(cells []string) Row { return Row{cells: cells} }

// RawRow is a row as it stands in a file of a dialect, which is the table's.
func RawRow(raw []byte, d *sheet.Dialect) Row { return Row{raw: raw, dialect: d} }

// Raw is the row as it stands in its file; nil where its cells are all there is.
func (r Row) Raw() []byte { return r.raw }

// Cell is the cell in a column from 0; "" where the row ends before it.
func (r Row) Cell(column int) string {
	switch {
	case column < 0:
		return ""
	case r.dialect != nil:
		return r.dialect.Cell(r.raw, column)
	case column >= len(r.cells):
		return ""
	}
	return r.cells[column]
}

// Cells are all its cells.
func (r Row) Cells() []string {
	if r.dialect != nil {
		return r.dialect.Cells(r.raw)
	}
	return r.cells
}

// own are all its cells, to be changed.
func (r Row) own() []string {
	if r.owned || r.dialect != nil {
		return r.Cells()
	}
	return slices.Clone(r.cells)
}

// Column is the place of a column with a name; case, spaces and what stands for them do not
// count, unless one is called exactly so.
func (t Table) Column(name string) (int, error) {
	for i, c := range t.Columns {
		if c == name {
			return i, nil
		}
	}
	for i, c := range t.Columns {
		if sameName(c, name) {
			return i, nil
		}
	}
	return -1, fmt.Errorf("the list %s has no column %q; its columns are %s", t.Name, name, quotedNames(t.Columns))
}

// columns are the places of several.
func (t Table) columns(names []string) (out []int, err error) {
	for _, n := range names {
		c, err := t.Column(n)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// Number reads a cell as a number, with a decimal point or comma.
func Number(cell string) (float64, bool) {
	cell = strings.TrimSpace(cell)
	if strings.Count(cell, ",") == 1 && !strings.Contains(cell, ".") {
		cell = strings.Replace(cell, ",", ".", 1)
	}
	n, err := strconv.ParseFloat(cell, 64)
	return n, err == nil
}

// Date reads the cells of a column as dates: as its kind says, or as they are written in data.
func (t Table) Date(column int) func(cell string) (time.Time, bool) {
	layouts := []string{time.RFC3339, time.DateOnly, time.DateTime}
	if column >= 0 && column < len(t.Kinds) && t.Kinds[column].Type == sheet.Date {
		layouts = append([]string{t.Kinds[column].Layout}, layouts...)
	}
	return func(cell string) (time.Time, bool) {
		cell = strings.TrimSpace(cell)
		if cell == "" {
			return time.Time{}, false
		}
		for _, l := range layouts {
			if at, err := time.Parse(l, cell); err == nil {
				return at, true
			}
		}
		return time.Time{}, false
	}
}

// chosen are the rows of a table that fit; begin is called before the first row of each time
// that they are read.
func (t Table) chosen(begin func() (fits func(at int64, r Row) bool, err error)) Table {
	from := t.Rows
	t.Rows = func() iter.Seq2[Row, error] {
		return func(yield func(Row, error) bool) {
			fits, err := begin()
			if err != nil {
				yield(Row{}, err)
				return
			}
			at := int64(0)
			for row, err := range from() {
				if at++; err == nil && !fits(at, row) {
					continue
				}
				if !yield(row, err) || err != nil {
					return
				}
			}
		}
	}
	return t
}

// each calls do with every row of a table and its number from 1.
func (t Table) each(do func(at int64, r Row) error) error {
	at := int64(0)
	for row, err := range t.Rows() {
		if err != nil {
			return err
		}
		at++
		if err := do(at, row); err != nil {
			return err
		}
	}
	return nil
}

// MostTables is how many tables an operation takes at once.
const MostTables = 32

func checkTables(tables []Table, matches []Match, least int) error {
	switch {
	case len(tables) < least:
		return fmt.Errorf("this takes at least %d lists; name the other one", least)
	case len(tables) > MostTables:
		return fmt.Errorf("this takes at most %d lists at once, and %d are given", MostTables, len(tables))
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

// namedColumns is how many columns an error names.
const namedColumns = 12

func quotedNames(names []string) string {
	out := make([]string, 0, namedColumns)
	for _, n := range names[:min(len(names), namedColumns)] {
		out = append(out, strconv.Quote(n))
	}
	if more := len(names) - namedColumns; more > 0 {
		out = append(out, fmt.Sprintf("%d more", more))
	}
	return strings.Join(out, ", ")
}

package workshop

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Splitting is how a table becomes several.
type Splitting struct {
	// Column or Fact: one for each value of it. Case and spaces around do not count.
	Column string
	Fact   Fact
	// Each: one for every N rows.
	Each int64
}

// MostParts is how many tables one becomes at most.
const MostParts = 200

// Part is one of them.
type Part struct {
	Value string // as it stands first; "" for rows without one
	Rows  int64
}

// Divided is a table in parts: every row stands in one of them.
type Divided struct {
	Parts []Part

	table Table
	of    func(at int64) int // the part of a row
}

// Split parts a table. By value the parts come by size; of values past MostParts it is an error.
func Split(t Table, by Splitting, with Env) (*Divided, error) {
	switch {
	case by.Each < 0 || by.Each > 0 && (by.Column != "" || by.Fact != ""), by.Each == 0 && (by.Column == "") == (by.Fact == ""):
		return nil, fmt.Errorf("a list is split by a column, by a fact, or into parts of N rows; choose one of these")
	case by.Each > 0:
		return splitEach(t, by.Each)
	}
	value, err := by.value(t, with)
	if err != nil {
		return nil, err
	}
	var parts []Part
	var rows []uint8 // MostParts is less than it holds
	places := map[string]uint8{}
	err = t.each(func(_ int64, r Row) error {
		v := value(r)
		folded := strings.ToLower(v)
		i, ok := places[folded]
		if !ok {
			if len(parts) == MostParts {
				return fmt.Errorf("there are more than %d different values; split by another column, or slice the list first", MostParts)
			}
			i = uint8(len(parts))
			places[strings.Clone(folded)] = i
			parts = append(parts, Part{Value: strings.Clone(v)})
		}
		parts[i].Rows++
		rows = append(rows, i)
		return nil
	})
	if err != nil {
		return nil, err
	}
	order := others(len(parts), nil)
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(parts[b].Rows, parts[a].Rows) })
	sorted, place := make([]Part, len(parts)), make([]int, len(parts))
	for to, from := range order {
		sorted[to], place[from] = parts[from], to
	}
	return &Divided{sorted, t, func(at int64) int { return place[rows[at-1]] }}, nil
}

// value is the value of a row.
func (by Splitting) value(t Table, with Env) (func(Row) string, error) {
	if by.Fact != "" {
		of, err := with.fact(t, by.Fact)
		return func(r Row) string { return of(r)[0] }, err
	}
	c, err := t.Column(by.Column)
	return func(r Row) string { return strings.TrimSpace(r.Cell(c)) }, err
}

func splitEach(t Table, each int64) (*Divided, error) {
	rows := int64(0)
	if err := t.each(func(at int64, _ Row) error { rows = at; return nil }); err != nil {
		return nil, err
	}
	if n := (rows + each - 1) / each; n > MostParts {
		return nil, fmt.Errorf("%d rows in parts of %d would be %d lists; %d are the most", rows, each, n, MostParts)
	}
	d := &Divided{table: t, of: func(at int64) int { return int((at - 1) / each) }}
	for from := int64(1); from <= rows; from += each {
		to := min(rows, from+each-1)
		d.Parts = append(d.Parts, Part{Value: fmt.Sprintf("rows %d to %d", from, to), Rows: to - from + 1})
	}
	return d, nil
}

// Each reads the rows once, each with the place of its part.
func (d *Divided) Each(do func(part int, r Row) error) error {
	return d.table.each(func(at int64, r Row) error { return do(d.of(at), r) })
}

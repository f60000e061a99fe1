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
	// Each: one for every so many rows.
	Each int64
}

// MostParts is how many tables one becomes at most.
const MostParts = 200

// Part is one of them.
type Part struct {
	Table
	Value string // as it stands first; "" for rows without one
	Rows  int64
}

// Split parts a table: every row stands in one of the parts. By value they come by size; of
// values past MostParts it is an error.
func Split(t Table, by Splitting, with Env) ([]Part, error) {
	switch {
	case by.Each < 0 || by.Each > 0 && (by.Column != "" || by.Fact != ""), by.Each == 0 && (by.Column == "") == (by.Fact == ""):
		return nil, fmt.Errorf("a list is split by a column, by a fact, or into parts of so many rows; say one of them")
	case by.Each > 0:
		return splitEach(t, by.Each)
	}
	of, err := by.value(t, with)
	if err != nil {
		return nil, err
	}
	var parts []Part
	places := map[string]int{}
	err = t.each(func(_ int64, r Row) error {
		value := of(r)
		folded := strings.ToLower(value)
		i, ok := places[folded]
		if !ok {
			if len(parts) == MostParts {
				return fmt.Errorf("there are more than %d different values; split by another column, or slice the list first", MostParts)
			}
			i = len(parts)
			places[strings.Clone(folded)] = i
			parts = append(parts, Part{Value: strings.Clone(value)})
		}
		parts[i].Rows++
		return nil
	})
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(parts, func(a, b Part) int { return cmp.Compare(b.Rows, a.Rows) })
	for i := range parts {
		wanted := strings.ToLower(parts[i].Value)
		parts[i].Table = t.chosen(func() (func(int64, Row) bool, error) {
			return func(_ int64, r Row) bool { return strings.ToLower(of(r)) == wanted }, nil
		})
	}
	return parts, nil
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

func splitEach(t Table, each int64) ([]Part, error) {
	rows := int64(0)
	if err := t.each(func(at int64, _ Row) error { rows = at; return nil }); err != nil {
		return nil, err
	}
	if n := (rows + each - 1) / each; n > MostParts {
		return nil, fmt.Errorf("%d rows in parts of %d would be %d lists; %d are the most", rows, each, n, MostParts)
	}
	var parts []Part
	for from := int64(1); from <= rows; from += each {
		to := min(rows, from+each-1)
		part, err := Take(t, Slice{From: from, To: to})
		if err != nil {
			return nil, err
		}
		parts = append(parts, Part{Table: part, Value: fmt.Sprintf("rows %d to %d", from, to), Rows: to - from + 1})
	}
	return parts, nil
}

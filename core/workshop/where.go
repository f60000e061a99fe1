package workshop

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Test is what a cell is held against.
type Test string

// The tests. Of the first five case does not count.
const (
	Is       Test = "is"       // one of the values
	Contains Test = "contains" // one of them
	Begins   Test = "begins"   // with one of them
	Empty    Test = "empty"
	Pattern  Test = "pattern" // a regular expression, anywhere in the cell
	Between  Test = "between" // two numbers, both included; one may be left empty
	Dates    Test = "dates"   // two days, both included; one may be left empty
	LastDays Test = "last"    // so many days until now
	InMonth  Test = "month"   // one of the months of any year, 1 to 12
)

// Condition is one condition on a column.
type Condition struct {
	Column int // from 0
	Test   Test
	Values []string
	Not    bool // it must not hold; of dates and numbers, cells that are none hold neither way
}

// Readers read what cells hold.
type Readers struct {
	Number func(cell string) (float64, bool)
	Date   func(cell string) (time.Time, bool)
	Now    time.Time
}

// holds is a condition made ready: whether it holds for a cell, and whether it can be said.
type holds func(cell string) (yes, sayable bool)

// Where makes the rows for which the conditions hold: all of them, or (with any) one.
func Where(t Table, conditions []Condition, any bool, r Readers, out Out) (Report, error) {
	tests := make([]holds, len(conditions))
	for i, c := range conditions {
		if c.Column < 0 || c.Column >= len(t.Columns) {
			return Report{}, fmt.Errorf("the list %s has %d columns, and no column %d", t.Name, len(t.Columns), c.Column+1)
		}
		var err error
		if tests[i], err = c.ready(r); err != nil {
			return Report{}, fmt.Errorf("the condition on the column %q: %w", t.Columns[c.Column], err)
		}
	}
	return each(t, out, func(row []string) bool {
		for i, c := range conditions {
			yes, sayable := tests[i](Cell(row, c.Column))
			if holds := sayable && yes != c.Not; holds == any {
				return any
			}
		}
		return !any || len(conditions) == 0
	})
}

// ready makes a condition ready to be held against cells.
func (c Condition) ready(r Readers) (holds, error) {
	values := make([]string, len(c.Values))
	for i, v := range c.Values {
		values[i] = strings.ToLower(strings.TrimSpace(v))
	}
	text := func(fits func(cell, value string) bool) (holds, error) {
		if len(values) == 0 {
			return nil, fmt.Errorf("say what the cell is held against")
		}
		return func(cell string) (bool, bool) {
			folded := strings.ToLower(strings.TrimSpace(cell))
			return slices.ContainsFunc(values, func(v string) bool { return fits(folded, v) }), true
		}, nil
	}
	switch c.Test {
	case Is:
		return text(func(cell, value string) bool { return cell == value })
	case Contains:
		return text(strings.Contains)
	case Begins:
		return text(strings.HasPrefix)
	case Empty:
		return func(cell string) (bool, bool) { return strings.TrimSpace(cell) == "", true }, nil
	case Pattern:
		return c.pattern()
	case Between:
		return c.between(r)
	case Dates:
		return c.dates(r)
	case LastDays:
		return c.lastDays(r)
	case InMonth:
		return c.inMonth(r)
	}
	return nil, fmt.Errorf("a cell is tested by is, contains, begins, empty, pattern, between, dates, last or month, not by %q", c.Test)
}

// mostPattern is how many characters a pattern may have. Patterns are matched in time linear in
// the cell, whatever they are.
const mostPattern = 500

func (c Condition) pattern() (holds, error) {
	if len(c.Values) != 1 || len(c.Values[0]) > mostPattern {
		return nil, fmt.Errorf("a pattern is one regular expression of at most %d characters", mostPattern)
	}
	p, err := regexp.Compile("(?i)" + c.Values[0])
	if err != nil {
		return nil, fmt.Errorf("%q is no regular expression: %w", c.Values[0], err)
	}
	return func(cell string) (bool, bool) { return p.MatchString(cell), true }, nil
}

func (c Condition) between(r Readers) (holds, error) {
	var ends [2]float64
	var given [2]bool
	if len(c.Values) != 2 {
		return nil, fmt.Errorf("numbers lie between two, of which one may be left empty")
	}
	for i, v := range c.Values {
		if v == "" {
			continue
		}
		n, err := strconv.ParseFloat(v, 64)
		if err != nil {
			return nil, fmt.Errorf("%q is no number; write it as 1234.5", v)
		}
		ends[i], given[i] = n, true
	}
	return func(cell string) (bool, bool) {
		n, ok := r.Number(cell)
		return ok && (!given[0] || n >= ends[0]) && (!given[1] || n <= ends[1]), ok
	}, nil
}

func (c Condition) dates(r Readers) (holds, error) {
	var ends [2]time.Time
	if len(c.Values) != 2 {
		return nil, fmt.Errorf("days lie between two, of which one may be left empty")
	}
	for i, v := range c.Values {
		if v == "" {
			continue
		}
		day, err := time.Parse(time.DateOnly, v)
		if err != nil {
			return nil, fmt.Errorf("%q is no day; write it as 2026-03-17", v)
		}
		ends[i] = day.AddDate(0, 0, i) // the last day is included
	}
	return func(cell string) (bool, bool) {
		at, ok := r.Date(cell)
		return ok && (ends[0].IsZero() || !at.Before(ends[0])) && (ends[1].IsZero() || at.Before(ends[1])), ok
	}, nil
}

func (c Condition) lastDays(r Readers) (holds, error) {
	if len(c.Values) != 1 {
		return nil, fmt.Errorf("say how many days")
	}
	days, err := strconv.Atoi(c.Values[0])
	if err != nil || days < 1 || days > 40_000 {
		return nil, fmt.Errorf("%q is no number of days from 1 to 40,000", c.Values[0])
	}
	since := r.Now.AddDate(0, 0, -days)
	return func(cell string) (bool, bool) {
		at, ok := r.Date(cell)
		return ok && !at.Before(since) && !at.After(r.Now), ok
	}, nil
}

func (c Condition) inMonth(r Readers) (holds, error) {
	months := map[time.Month]bool{}
	for _, v := range c.Values {
		n, err := strconv.Atoi(v)
		if err != nil || n < 1 || n > 12 {
			return nil, fmt.Errorf("%q is no month from 1 to 12", v)
		}
		months[time.Month(n)] = true
	}
	if len(months) == 0 {
		return nil, fmt.Errorf("say which months")
	}
	return func(cell string) (bool, bool) {
		at, ok := r.Date(cell)
		return ok && months[at.Month()], ok
	}, nil
}

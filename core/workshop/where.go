package workshop

import (
	"fmt"
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

// Fact is something known of the address of a row.
type Fact string

// The facts. The first two are told of any address; the others where it was verified.
const (
	FactDomain   Fact = "domain"
	FactTrait    Fact = "trait"
	FactOperator Fact = "operator"
	FactFinding  Fact = "finding"
	FactCause    Fact = "cause"
	FactDecision Fact = "decision"
	FactChecked  Fact = "checked" // when it was verified last
	FactActive   Fact = "active"  // when something was seen of it last
)

// Condition is one condition on a column, or on a fact about the address.
type Condition struct {
	Column string
	Fact   Fact
	Test   Test
	Values []string
	Not    bool // it must not hold; of dates and numbers, cells that are none hold neither way
}

// holds is a condition made ready: whether it holds for a cell, and whether it can be said.
type holds func(cell string) (yes, sayable bool)

// cellsOf are what of a row a condition looks at: one cell, or what is known.
type cellsOf func(r Row) []string

// Where are the rows for which the conditions hold: all of them, or (with any) one.
func Where(t Table, conditions []Condition, any bool, with Env) (Table, error) {
	tests, of := make([]holds, len(conditions)), make([]cellsOf, len(conditions))
	for i, c := range conditions {
		var err error
		if tests[i], of[i], err = c.at(t, with); err != nil {
			return t, err
		}
	}
	return t.chosen(func() (func(int64, Row) bool, error) {
		return func(_ int64, row Row) bool {
			for i, c := range conditions {
				if c.met(tests[i], of[i](row)) == any {
					return any
				}
			}
			return !any || len(conditions) == 0
		}, nil
	}), nil
}

// met reports whether one of the cells meets a condition, or (with Not) none of them.
func (c Condition) met(test holds, cells []string) bool {
	met, sayable := false, false
	for _, cell := range cells {
		yes, ok := test(cell)
		met, sayable = met || yes && ok, sayable || ok
	}
	return sayable && met != c.Not
}

// at makes a condition ready for a table.
func (c Condition) at(t Table, with Env) (holds, cellsOf, error) {
	if c.Fact != "" {
		of, err := with.fact(t, c.Fact)
		if err != nil {
			return nil, nil, err
		}
		test, err := c.ready(t.Date(-1), with.Now)
		if err != nil {
			return nil, nil, fmt.Errorf("the condition on the %s: %w", c.Fact, err)
		}
		return test, of, nil
	}
	column, err := t.Column(c.Column)
	if err != nil {
		return nil, nil, err
	}
	test, err := c.ready(t.Date(column), with.Now)
	if err != nil {
		return nil, nil, fmt.Errorf("the condition on the column %q: %w", t.Columns[column], err)
	}
	cell := make([]string, 1)
	return test, func(r Row) []string { cell[0] = r.Cell(column); return cell }, nil
}

// ready makes a condition ready to be held against cells.
func (c Condition) ready(date dateReader, now time.Time) (holds, error) {
	switch c.Test {
	case Is, Contains, Begins:
		return c.text()
	case Empty:
		return func(cell string) (bool, bool) { return strings.TrimSpace(cell) == "", true }, nil
	case Pattern:
		return c.pattern()
	case Between:
		return c.between()
	case Dates:
		return c.dates(date)
	case LastDays:
		return c.lastDays(date, now)
	case InMonth:
		return c.inMonth(date)
	}
	return nil, fmt.Errorf("a cell is tested by is, contains, begins, empty, pattern, between, dates, last or month, not by %q", c.Test)
}

// text holds cells against texts.
func (c Condition) text() (holds, error) {
	if len(c.Values) == 0 {
		return nil, fmt.Errorf("give the value to compare the cell with")
	}
	values, whole := make([]string, len(c.Values)), make(map[string]bool, len(c.Values))
	for i, v := range c.Values {
		values[i] = strings.ToLower(strings.TrimSpace(v))
		whole[values[i]] = true
	}
	fits := map[Test]func(cell, value string) bool{Contains: strings.Contains, Begins: strings.HasPrefix}[c.Test]
	return func(cell string) (bool, bool) {
		folded := strings.ToLower(strings.TrimSpace(cell))
		if c.Test == Is {
			return whole[folded], true
		}
		return slices.ContainsFunc(values, func(v string) bool { return fits(folded, v) }), true
	}, nil
}

// dateReader reads cells as dates.
type dateReader = func(cell string) (time.Time, bool)

// mostPattern is how many characters a pattern may have. Patterns are matched in time linear in
// the cell, whatever they are.
const mostPattern = 500

func (c Condition) pattern() (holds, error) {
	if len(c.Values) != 1 {
		return nil, fmt.Errorf("a pattern is one regular expression")
	}
	p, err := pattern(c.Values[0])
	if err != nil {
		return nil, err
	}
	return func(cell string) (bool, bool) { return p.MatchString(cell), true }, nil
}

func (c Condition) between() (holds, error) {
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
			return nil, fmt.Errorf("%q is not a number; write it as 1234.5", v)
		}
		ends[i], given[i] = n, true
	}
	return func(cell string) (bool, bool) {
		n, ok := Number(cell)
		return ok && (!given[0] || n >= ends[0]) && (!given[1] || n <= ends[1]), ok
	}, nil
}

func (c Condition) dates(date dateReader) (holds, error) {
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
			return nil, fmt.Errorf("%q is not a day; write it as 2026-03-17", v)
		}
		ends[i] = day.AddDate(0, 0, i) // the last day is included
	}
	return func(cell string) (bool, bool) {
		at, ok := date(cell)
		return ok && (ends[0].IsZero() || !at.Before(ends[0])) && (ends[1].IsZero() || at.Before(ends[1])), ok
	}, nil
}

func (c Condition) lastDays(date dateReader, now time.Time) (holds, error) {
	if len(c.Values) != 1 {
		return nil, fmt.Errorf("give the number of days")
	}
	days, err := strconv.Atoi(c.Values[0])
	if err != nil || days < 1 || days > 40_000 {
		return nil, fmt.Errorf("%q is not a number of days from 1 to 40,000", c.Values[0])
	}
	since := now.AddDate(0, 0, -days)
	return func(cell string) (bool, bool) {
		at, ok := date(cell)
		return ok && !at.Before(since) && !at.After(now), ok
	}, nil
}

func (c Condition) inMonth(date dateReader) (holds, error) {
	months := map[time.Month]bool{}
	for _, v := range c.Values {
		n, err := strconv.Atoi(v)
		if err != nil || n < 1 || n > 12 {
			return nil, fmt.Errorf("%q is not a month from 1 to 12", v)
		}
		months[time.Month(n)] = true
	}
	if len(months) == 0 {
		return nil, fmt.Errorf("give the months")
	}
	return func(cell string) (bool, bool) {
		at, ok := date(cell)
		return ok && months[at.Month()], ok
	}, nil
}

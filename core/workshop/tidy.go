package workshop

import (
	"fmt"
	"iter"
	"regexp"
	"slices"
	"strings"
	"sync"

	"varnet/core/address"
	"varnet/core/naming"
	"varnet/core/sheet"
)

// Tidying is what a change does.
type Tidying string

// The changes. The first ones change cells where they stand, the next make columns, the last
// change which columns there are.
const (
	Trim       Tidying = "trim"       // spaces around, and more than one within
	Upper      Tidying = "upper"      // all letters large
	Lower      Tidying = "lower"      // all letters small
	Salutation Tidying = "salutation" // names as they stand in a salutation
	Replace    Tidying = "replace"    // a text by another

	LocalPart    Tidying = "local-part" // of the address, before the @
	DomainPart   Tidying = "domain"     // of the address, behind it
	FirstName    Tidying = "first-name" // of a column with full names, or of the address where the habit of its domain is known
	LastName     Tidying = "last-name"
	CountryOf    Tidying = "country" // of a column with IP addresses
	SplitColumn  Tidying = "split"   // at a text, into two columns
	JoinColumns  Tidying = "join"    // several columns to one, with a text between
	RenameColumn Tidying = "rename"
	OrderColumns Tidying = "order" // some columns first
	DropColumns  Tidying = "drop"
)

// Tidyings lists them.
func Tidyings() []Tidying {
	return []Tidying{Trim, Upper, Lower, Salutation, Replace, LocalPart, DomainPart, FirstName, LastName, CountryOf, SplitColumn, JoinColumns, RenameColumn, OrderColumns, DropColumns}
}

// Change is one change of cells or columns.
type Change struct {
	Do Tidying
	// Columns are those that it changes, reads, orders or drops.
	Columns []string
	// To is the name of the column that it makes or renames, Rest that of the second one of a
	// split.
	To, Rest string
	// Find is the text that is replaced or split at; with Pattern a regular expression.
	Find    string
	Pattern bool
	// With replaces it, or stands between joined cells.
	With string
}

// mostChanges is how many changes a step makes.
const mostChanges = 100

// Tidy changes cells and columns. The table it came of stays as it is.
func Tidy(t Table, changes []Change, with Env) (Table, error) {
	if len(changes) == 0 || len(changes) > mostChanges {
		return t, fmt.Errorf("give at least one change and at most %d", mostChanges)
	}
	for i, c := range changes {
		var err error
		if t, err = c.change(t, with); err != nil {
			return t, fmt.Errorf("change %d (%s): %w", i+1, c.Do, err)
		}
	}
	return t, nil
}

// changing is what becomes of the cells of a row.
type changing func(cells []string) ([]string, error)

// mapped has the cells of its rows changed. They are as many as there were columns, at least.
func (t Table) mapped(do changing) Table {
	from, n := t.Rows, len(t.Columns)
	t.Written, t.Head = nil, nil
	t.Rows = func() iter.Seq2[Row, error] {
		return func(yield func(Row, error) bool) {
			for row, err := range from() {
				if err == nil {
					cells := row.own()
					for len(cells) < n {
						cells = append(cells, "")
					}
					row = Row{Known: row.Known, owned: true}
					row.cells, err = do(cells)
				}
				if !yield(row, err) || err != nil {
					return
				}
			}
		}
	}
	return t
}

func (c Change) change(t Table, with Env) (Table, error) {
	columns, err := t.columns(c.Columns)
	if err != nil {
		return t, err
	}
	switch c.Do {
	case Trim, Upper, Lower, Salutation, Replace:
		return c.cells(t, columns)
	case LocalPart, DomainPart, FirstName, LastName, CountryOf, JoinColumns:
		return c.derive(t, columns, with)
	case SplitColumn:
		return c.split(t, columns)
	}
	if len(columns) == 0 {
		return t, fmt.Errorf("name the column")
	}
	switch c.Do {
	case RenameColumn:
		if strings.TrimSpace(c.To) == "" || len(columns) != 1 {
			return t, fmt.Errorf("a rename takes one column and its new name")
		}
		out := t.mapped(func(cells []string) ([]string, error) { return cells, nil })
		out.Columns = slices.Clone(t.Columns)
		out.Columns[columns[0]] = c.To
		return out, nil
	case OrderColumns:
		return t.arranged(append(slices.Clone(columns), others(len(t.Columns), columns)...)), nil
	case DropColumns:
		if len(columns) == len(t.Columns) {
			return t, fmt.Errorf("a list keeps at least one column")
		}
		return t.arranged(others(len(t.Columns), columns)), nil
	}
	return t, fmt.Errorf("cells and columns are changed by %s, not by %q", strings.Join(names(Tidyings()), ", "), c.Do)
}

func names[T ~string](of []T) (out []string) {
	for _, v := range of {
		out = append(out, string(v))
	}
	return out
}

// others are the columns that are not among some.
func others(n int, some []int) (out []int) {
	for i := range n {
		if !slices.Contains(some, i) {
			out = append(out, i)
		}
	}
	return out
}

// arranged has the columns at some places, in their order.
func (t Table) arranged(places []int) Table {
	past := len(t.Columns)
	out := t.mapped(func(cells []string) ([]string, error) {
		row := make([]string, 0, len(places))
		for _, p := range places {
			row = append(row, cells[p])
		}
		return append(row, cells[past:]...), nil
	})
	out.Columns, out.Kinds, out.Addresses = nil, nil, nil
	for to, p := range places {
		out.Columns = append(out.Columns, t.Columns[p])
		out.Kinds = append(out.Kinds, t.kind(p))
		if slices.Contains(t.Addresses, p) {
			out.Addresses = append(out.Addresses, to)
		}
	}
	return out
}

func (t Table) kind(column int) sheet.Kind {
	if column < len(t.Kinds) {
		return t.Kinds[column]
	}
	return text
}

// cells changes cells where they stand: those of some columns, or (with none) of all.
func (c Change) cells(t Table, columns []int) (Table, error) {
	if len(columns) == 0 {
		columns = others(len(t.Columns), nil)
	}
	do, err := c.textChange()
	if err != nil {
		return t, err
	}
	out := t.mapped(func(cells []string) ([]string, error) {
		for _, i := range columns {
			cells[i] = do(cells[i])
		}
		return cells, nil
	})
	if c.Do == Replace { // what were dates or numbers may be none
		out.Kinds = slices.Clone(t.Kinds)
		for _, i := range columns {
			if i < len(out.Kinds) {
				out.Kinds[i] = text
			}
		}
	}
	return out, nil
}

func (c Change) textChange() (func(string) string, error) {
	switch c.Do {
	case Trim:
		return trimmed, nil
	case Upper:
		return strings.ToUpper, nil
	case Lower:
		return strings.ToLower, nil
	case Salutation:
		return naming.Capital, nil
	}
	if c.Find == "" {
		return nil, fmt.Errorf("give the text that is replaced")
	}
	if !c.Pattern {
		return strings.NewReplacer(c.Find, c.With).Replace, nil
	}
	p, err := pattern(c.Find)
	if err != nil {
		return nil, err
	}
	return func(s string) string { return p.ReplaceAllString(s, c.With) }, nil
}

// trimmed leaves out spaces around a text, and all but one between its words.
func trimmed(s string) string {
	if strings.TrimSpace(s) == s && !strings.Contains(s, "  ") && !strings.ContainsAny(s, "\t\r\n\u00a0") {
		return s
	}
	return strings.Join(strings.Fields(s), " ")
}

// pattern compiles a regular expression, whose case does not count.
func pattern(text string) (*regexp.Regexp, error) {
	if len(text) > mostPattern {
		return nil, fmt.Errorf("a pattern is one regular expression of at most %d characters", mostPattern)
	}
	p, err := regexp.Compile("(?i)" + text)
	if err != nil {
		return nil, fmt.Errorf("%q is not a regular expression: %w", text, err)
	}
	return p, nil
}

// split parts the cells of a column at the first place where a text stands.
func (c Change) split(t Table, columns []int) (Table, error) {
	if len(columns) != 1 || c.Find == "" || c.To == "" || c.Rest == "" {
		return t, fmt.Errorf("a split takes a column, the text to split at, and two new names")
	}
	at := columns[0]
	out := t.mapped(func(cells []string) ([]string, error) {
		a, b, _ := strings.Cut(cells[at], c.Find)
		return slices.Insert(cells, at+1, strings.TrimSpace(a), strings.TrimSpace(b)), nil
	})
	return out.widened(t, at+1, c.To, c.Rest), nil
}

// widened has new columns of texts at a place.
func (t Table) widened(before Table, at int, names ...string) Table {
	kinds := make([]sheet.Kind, len(names))
	for i := range kinds {
		kinds[i] = text
	}
	t.Columns = slices.Insert(slices.Clone(before.Columns), at, names...)
	old := make([]sheet.Kind, len(before.Columns))
	for i := range old {
		old[i] = before.kind(i)
	}
	t.Kinds, t.Addresses = slices.Insert(old, at, kinds...), nil
	for _, a := range before.Addresses {
		if a >= at {
			a += len(names)
		}
		t.Addresses = append(t.Addresses, a)
	}
	return t
}

// derive makes a column of others, behind the last of those.
func (c Change) derive(t Table, columns []int, with Env) (Table, error) {
	do, err := c.deriving(t, columns, with)
	if err != nil {
		return t, err
	}
	name, at := c.To, 0
	if name == "" {
		name = string(c.Do)
	}
	if len(columns) == 0 {
		columns = t.Addresses
	}
	for _, i := range columns {
		at = max(at, i+1)
	}
	out := t.mapped(func(cells []string) ([]string, error) {
		cell, err := do(cells)
		return slices.Insert(cells, at, cell), err
	})
	return out.widened(t, at, name), nil
}

// deriving is what makes the new cell of a row.
func (c Change) deriving(t Table, columns []int, with Env) (func(cells []string) (string, error), error) {
	of := columns
	if len(of) == 0 {
		of = t.Addresses
	}
	address := func(cells []string) (a address.Address, ok bool) {
		for _, i := range of {
			if a, err := with.Grammar.Parse(cells[i]); err == nil {
				return a, true
			}
		}
		return a, false
	}
	switch c.Do {
	case LocalPart, DomainPart:
		if len(of) == 0 {
			return nil, fmt.Errorf("the list %s has no column with addresses; name one", t.Name)
		}
		return func(cells []string) (string, error) {
			a, _ := address(cells)
			if c.Do == DomainPart {
				return a.Domain, nil
			}
			return a.Local, nil
		}, nil
	case JoinColumns:
		if len(columns) < 2 {
			return nil, fmt.Errorf("name the columns that are joined")
		}
		return func(cells []string) (string, error) {
			var parts []string
			for _, i := range columns {
				if !empty(cells[i]) {
					parts = append(parts, cells[i])
				}
			}
			return strings.Join(parts, c.With), nil
		}, nil
	case CountryOf:
		switch {
		case with.Country == nil:
			return nil, fmt.Errorf("this installation has no file that tells countries of IP addresses; its operator sets one with -country-file")
		case len(columns) != 1:
			return nil, fmt.Errorf("name the column that holds IP addresses")
		}
		return func(cells []string) (string, error) { return with.Country(strings.TrimSpace(cells[columns[0]])), nil }, nil
	}
	return c.names(t, columns, with)
}

// names makes first or last names: of full names, and where there is none of the address, if the
// habit of its domain is known from the rows that have both.
func (c Change) names(t Table, columns []int, with Env) (func(cells []string) (string, error), error) {
	if len(columns) != 1 {
		return nil, fmt.Errorf("name the column that holds full names; where its cell is empty, the address tells, if the other rows show how its domain makes addresses of names")
	}
	full := columns[0]
	part := func(n naming.Name) string {
		if c.Do == FirstName {
			return n.First
		}
		return n.Last
	}
	habits := sync.OnceValues(func() (naming.Habits, error) { return with.habits(t, full) })
	return func(cells []string) (string, error) {
		if !empty(cells[full]) {
			return part(naming.Parse(cells[full])), nil
		}
		a, ok := with.firstAddress(t, NewRow(cells))
		if !ok {
			return "", nil
		}
		h, err := habits() // most lists never come here
		p, _, _ := h.Habit(a.Domain)
		n, _ := naming.Read(p, a.Base())
		return part(n), err
	}, nil
}

// habits learns how domains make addresses of names from the rows that have both.
func (e Env) habits(t Table, full int) (naming.Habits, error) {
	h := naming.Habits{}
	return h, t.each(func(_ int64, r Row) error {
		if name := r.Cell(full); !empty(name) && len(h) < mostDistinct {
			if a, ok := e.firstAddress(t, r); ok {
				h.See(a.Domain, naming.Parse(name), a.Base())
			}
		}
		return nil
	})
}

// firstAddress is the first address of a row.
func (e Env) firstAddress(t Table, r Row) (a address.Address, ok bool) {
	for _, c := range t.Addresses {
		if a, err := e.Grammar.Parse(r.Cell(c)); err == nil {
			return a, true
		}
	}
	return a, false
}

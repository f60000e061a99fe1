package workshop

import (
	"fmt"
	"time"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/sheet"
)

// Do is what a step does.
type Do string

// What steps do.
const (
	DoMerge      Do = "merge"      // the rows of all lists, one for each key
	DoWithout    Do = "without"    // the rows that stand in none of the others
	DoBoth       Do = "both"       // the rows that stand in all of the others, too
	DoOnly       Do = "only"       // the rows of all lists that stand in one alone
	DoDuplicates Do = "duplicates" // the rows that stand in it several times
	DoOne        Do = "one"        // the first row for each key
	DoSlice      Do = "slice"      // the rows that meet conditions, and of those the ones at some places
	DoStrike     Do = "strike"     // the rows in which no term stands
	DoTidy       Do = "tidy"       // all rows, their cells and columns changed
)

// Recipe is steps that follow each other, beginning with one list. Columns are named, not
// counted, so that it does for the next month's files.
type Recipe []Step

// Step is one of them. What does not belong to what it does is left empty.
type Step struct {
	Do Do
	// With names the other lists.
	With []string
	// By is by what rows are the same, by their address unless given; Columns are the columns
	// that are looked at, in every list: those that hold addresses unless given. Together makes
	// one key of all of them. Strike looks for its terms in Columns, in all unless given.
	By       By
	Columns  []string
	Together bool
	// Keep says which cells a merge keeps, those of the first row unless given; Newest is the
	// column with the date that tells. Aliases are columns called otherwise in the other lists.
	Keep    Keep
	Newest  string
	Aliases []Alias
	// Conditions are those of a slice; with Any one is enough.
	Conditions []Condition
	Any        bool
	Slice      Slice
	// Terms are what is struck, TermLists the names of saved lists of more; How is how a term
	// must stand in a cell. Found keeps the rows in which one stands, instead of the others.
	Terms     []string
	TermLists []string
	How       How
	Found     bool
	// Changes are what tidies.
	Changes []Change
}

// Env is what a recipe is made with.
type Env struct {
	Spill     *Spill
	Grammar   address.Grammar
	Catalogue *catalogue.Catalogue
	Now       time.Time
	// Open opens a list by what With says of it.
	Open func(name string) (Table, error)
	// Terms are those of a saved list.
	Terms func(name string) ([]string, error)
	// Country is the country of an IP address, as a code of two letters, "" where it is not
	// known; nil: the installation cannot tell any.
	Country func(ip string) string
}

// The bounds of a recipe.
const (
	MostSteps = 20
	mostWords = 1_000_000 // terms of a step
)

// Counted is how many rows a list or a step had when it was read last.
type Counted struct{ Rows int64 }

// Made is the table that a recipe makes. Its counts are right once its rows were read.
type Made struct {
	Table
	// First is the list it began with, Others those of each step, Steps what came of each.
	First  *Counted
	Others [][]*Counted
	Steps  []*Counted
}

// counted counts the rows of a table each time that they are read to their end.
func (t Table) counted() (Table, *Counted) {
	c := &Counted{}
	return t.chosen(func() (func(int64, Row) bool, error) {
		c.Rows = 0
		return func(at int64, _ Row) bool { c.Rows = at; return true }, nil // a reading within this one ends before it
	}), c
}

// Make makes the table of a recipe, which begins with a list. Errors name the step, what is wrong
// and the remedy.
func (r Recipe) Make(first Table, with Env) (Made, error) {
	if len(r) > MostSteps {
		return Made{}, fmt.Errorf("a recipe has at most %d steps, and this one has %d", MostSteps, len(r))
	}
	m := Made{}
	m.Table, m.First = first.counted()
	for i, s := range r {
		others := make([]*Counted, len(s.With))
		tables := []Table{m.Table}
		var err error
		for n, name := range s.With {
			var t Table
			if t, err = with.Open(name); err != nil {
				return m, fmt.Errorf("step %d (%s): %w", i+1, s.Do, err)
			}
			t, others[n] = t.counted()
			tables = append(tables, t)
		}
		if m.Table, err = s.make(tables, with); err != nil {
			return m, fmt.Errorf("step %d (%s): %w", i+1, s.Do, err)
		}
		var after *Counted
		m.Table, after = m.counted()
		m.Others, m.Steps = append(m.Others, others), append(m.Steps, after)
	}
	return m, nil
}

func (s Step) make(tables []Table, with Env) (Table, error) {
	t := tables[0]
	if len(tables) > 1 && s.Do != DoMerge && s.Do != DoWithout && s.Do != DoBoth && s.Do != DoOnly {
		return t, fmt.Errorf("this looks at one list alone; leave %q out", s.With[0])
	}
	switch s.Do {
	case DoSlice:
		return s.slice(t, with)
	case DoStrike:
		return s.strike(t, with)
	case DoTidy:
		return Tidy(t, s.Changes, with)
	}
	matches, err := s.matches(tables, with)
	if err != nil {
		return t, err
	}
	switch s.Do {
	case DoMerge:
		return s.merge(tables, matches, with)
	case DoWithout:
		return Without(with.Spill, tables, matches)
	case DoBoth:
		return Both(with.Spill, tables, matches)
	case DoOnly:
		j, err := Join(tables, s.Aliases)
		if err != nil {
			return t, err
		}
		return OnlyOne(with.Spill, tables, matches, j)
	case DoDuplicates:
		return Duplicates(with.Spill, t, matches[0])
	case DoOne:
		return OnePer(with.Spill, t, matches[0])
	}
	return t, fmt.Errorf("a step merges, or is one of without, both, only, duplicates, one, slice, strike and tidy, not %q", s.Do)
}

// matches say by what the rows of each table are the same.
func (s Step) matches(tables []Table, with Env) (out []Match, err error) {
	by := s.By
	if by == "" {
		by = ByAddress
	}
	for n, t := range tables {
		m := Match{By: by, Columns: t.Addresses, Together: s.Together, Grammar: with.Grammar, Same: with.Catalogue.Sameness}
		if len(s.Columns) > 0 {
			if m.Columns, err = t.columns(s.named(n, t)); err != nil {
				return nil, err
			}
		} else if !by.ofAddress() {
			return nil, fmt.Errorf("name the column; the list %s has %s", t.Name, quotedNames(t.Columns))
		}
		out = append(out, m)
	}
	return out, nil
}

// named are the step's columns as the list with a number calls them.
func (s Step) named(n int, t Table) []string {
	names := append([]string{}, s.Columns...)
	for i := range names {
		for _, a := range s.Aliases {
			if _, err := t.Column(names[i]); n > 0 && err != nil && sameName(a.As, names[i]) {
				names[i] = a.Column
			}
		}
	}
	return names
}

func (s Step) merge(tables []Table, matches []Match, with Env) (Table, error) {
	j, err := Join(tables, s.Aliases)
	if err != nil {
		return tables[0], err
	}
	m := Merging{Matches: matches, Joined: j, Keep: s.Keep, Dates: make([]int, len(tables))}
	if m.Keep == "" {
		m.Keep = KeepFirst
	}
	found := false
	for n, t := range tables {
		m.Dates[n] = -1
		if c, err := t.Column(s.Newest); s.Newest != "" && err == nil {
			m.Dates[n], found = c, true
		}
	}
	if m.Keep == KeepNewest && !found {
		return tables[0], fmt.Errorf("no list has a column %q by which the newest row can be told; name one with dates", s.Newest)
	}
	return Merge(with.Spill, tables, m)
}

func (s Step) slice(t Table, with Env) (Table, error) {
	if len(s.Conditions) > 0 {
		var err error
		if t, err = Where(t, s.Conditions, s.Any, with); err != nil {
			return t, err
		}
	}
	if s.Slice == (Slice{}) {
		if len(s.Conditions) == 0 {
			return t, fmt.Errorf("choose rows by conditions, by their place, or both")
		}
		return t, nil
	}
	return Take(t, s.Slice)
}

func (s Step) strike(t Table, with Env) (Table, error) {
	terms := s.Terms
	for _, name := range s.TermLists {
		if with.Terms == nil {
			return t, fmt.Errorf("there are no saved terms here; give the terms themselves, not the list %q", name)
		}
		saved, err := with.Terms(name)
		if err != nil {
			return t, err
		}
		terms = append(terms[:len(terms):len(terms)], saved...)
	}
	if len(terms) > mostWords {
		return t, fmt.Errorf("a step strikes by at most %d terms, and %d are given; strike by the others in a second step", mostWords, len(terms))
	}
	how := s.How
	if how == "" {
		how = AsCell
	}
	ready, err := NewTerms(how, terms)
	if err != nil {
		return t, err
	}
	if ready.Len() == 0 {
		return t, fmt.Errorf("there are no terms to look for; give some, or a saved list of them")
	}
	columns, err := t.columns(s.Columns)
	if err != nil {
		return t, err
	}
	return Strike(t, ready, columns, s.Found), nil
}

// fact reads what is known of the address of a row.
func (e Env) fact(t Table, f Fact) (cellsOf, error) {
	one := make([]string, 1)
	known := func(read func(k *Known) string) cellsOf {
		return func(r Row) []string {
			if one[0] = ""; r.Known != nil {
				one[0] = read(r.Known)
			}
			return one
		}
	}
	switch f {
	case FactDomain, FactTrait:
		return e.ofAddress(t, f)
	case FactOperator:
		return known(func(k *Known) string { return k.Operator }), nil
	case FactFinding:
		return known(func(k *Known) string { return k.Finding }), nil
	case FactCause:
		return known(func(k *Known) string { return k.Cause }), nil
	case FactDecision:
		return known(func(k *Known) string { return k.Decision }), nil
	case FactChecked:
		return known(func(k *Known) string { return moment(k.Checked) }), nil
	case FactActive:
		return known(func(k *Known) string { return moment(k.Active) }), nil
	}
	return nil, fmt.Errorf("known of an address are its domain, trait, operator, finding, cause, decision, when it was checked and when it was active, not %q", f)
}

// moment is a time as a cell, "" for none.
func moment(at time.Time) string {
	if at.IsZero() {
		return ""
	}
	return at.UTC().Format(time.RFC3339)
}

// ofAddress reads what the address itself tells: its domain, and its traits by the catalogue,
// beside those that a verification found.
func (e Env) ofAddress(t Table, f Fact) (cellsOf, error) {
	if len(t.Addresses) == 0 {
		return nil, fmt.Errorf("the list %s has no column with addresses, whose %s could be looked at", t.Name, f)
	}
	if f == FactDomain {
		one := make([]string, 1)
		return func(r Row) []string {
			a, _ := e.firstAddress(t, r)
			one[0] = a.Domain
			return one
		}, nil
	}
	of := map[string][]string{} // a domain's own traits
	return func(r Row) []string {
		a, ok := e.firstAddress(t, r)
		if !ok {
			return []string{""}
		}
		own, seen := of[a.Domain]
		if !seen {
			own = names(e.Catalogue.OwnTraits(a.Domain))
			if len(of) < mostDistinct {
				of[a.Domain] = own
			}
		}
		out := append(names(e.Catalogue.NameTraits(a)), own...)
		if r.Known != nil {
			out = append(out, r.Known.Traits...)
		}
		if len(out) == 0 {
			out = append(out, "")
		}
		return out
	}, nil
}

// text is the kind of a column of texts.
var text = sheet.Kind{Type: sheet.Text}

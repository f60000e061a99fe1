package workshop

import (
	"fmt"
	"strings"

	"varnet/core/say"
)

// Says returns what a step does, to go on from the list before it: "without “Unsubscribed”, by
// address". called returns what a list is called.
func (s Step) Says(called func(with string) string) string {
	others := make([]string, len(s.With))
	for i, w := range s.With {
		others[i] = "“" + called(w) + "”"
	}
	switch s.Do {
	case DoMerge:
		keeps := map[Keep]string{KeepNewest: "the newest of several by " + quoted(s.Newest), KeepFilled: "the first of several, its empty cells filled from the others"}[s.Keep]
		if keeps == "" {
			keeps = "the first of several"
		}
		if len(others) == 0 {
			return "merged" + s.bySays() + ", keeping " + keeps
		}
		return "merged with " + say.And(others...) + s.bySays() + ", keeping " + keeps
	case DoWithout:
		return "without " + say.And(others...) + s.bySays()
	case DoBoth:
		return "also in " + say.And(others...) + s.bySays()
	case DoOnly:
		return "and " + say.And(others...) + ", rows in only one of them" + s.bySays()
	case DoDuplicates:
		return "reduced to its duplicates" + s.bySays()
	case DoOne:
		return "reduced to one row" + strings.Replace(s.bySays(), " by ", " per ", 1)
	case DoSlice:
		return s.sliceSays()
	case DoStrike:
		return s.strikeSays()
	}
	changes := make([]string, len(s.Changes))
	for i, c := range s.Changes {
		changes[i] = c.Says()
	}
	return "tidied: " + strings.Join(changes, "; ")
}

func quoted(text string) string { return "“" + text + "”" }

func quotedAll(texts []string) string {
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = quoted(t)
	}
	return say.SomeOr(out, saidValues)
}

// saidValues is how many values a sentence names before it counts the others.
const saidValues = 4

func (s Step) bySays() string {
	by := map[By]string{ByMailbox: "mailbox", ByDomain: "domain", ByExact: "the exact text", ByLoose: "the text", ByDigits: "the digits"}[s.By]
	if by == "" {
		by = "address"
	}
	if len(s.Columns) == 0 {
		return " by " + by
	}
	joined := " of "
	if s.Together {
		joined = " together of "
	}
	columns := make([]string, len(s.Columns))
	for i, c := range s.Columns {
		columns[i] = quoted(c)
	}
	return " by " + by + joined + say.And(columns...)
}

func (s Step) sliceSays() string {
	var parts []string
	for _, c := range s.Conditions {
		parts = append(parts, c.Says())
	}
	joint := " and "
	if s.Any {
		joint = " or "
	}
	out := ""
	if len(parts) > 0 {
		out = "where " + strings.Join(parts, joint)
	}
	if place := s.Slice.Says(); place != "" {
		if out != "" {
			out += "; of those "
		}
		out += place
	}
	return out
}

// Says returns which rows are taken by their place.
func (s Slice) Says() string {
	var parts []string
	switch {
	case s.Last > 0:
		parts = append(parts, "the last "+say.Rows(s.Last))
	case s.From > 1 && s.To > 0:
		parts = append(parts, fmt.Sprintf("rows %s to %s", say.Number(s.From), say.Number(s.To)))
	case s.From > 1:
		parts = append(parts, "rows from "+say.Number(s.From)+" on")
	case s.To > 0:
		parts = append(parts, "the first "+say.Rows(s.To))
	}
	if s.Every > 1 {
		parts = append(parts, fmt.Sprintf("one in every %s", say.Number(s.Every)))
	}
	if s.Sample > 0 {
		parts = append(parts, "a random sample of "+say.Rows(s.Sample))
	}
	return strings.Join(parts, ", ")
}

// Says returns a condition in words.
func (c Condition) Says() string {
	of := quoted(c.Column)
	if c.Fact != "" {
		of = map[Fact]string{FactDomain: "the domain", FactTrait: "a trait", FactOperator: "the operator", FactFinding: "the finding", FactCause: "the cause", FactDecision: "the decision", FactChecked: "the last check", FactActive: "the last activity"}[c.Fact]
	}
	end := func(i int) string {
		if i < len(c.Values) {
			return c.Values[i]
		}
		return ""
	}
	is := map[bool]string{false: " is ", true: " is not "}[c.Not]
	does := func(yes, no string) string {
		return map[bool]string{false: " " + yes + " ", true: " does not " + no + " "}[c.Not]
	}
	switch c.Test {
	case Is:
		return of + is + quotedAll(c.Values)
	case Contains:
		return of + does("contains", "contain") + quotedAll(c.Values)
	case Begins:
		return of + does("begins with", "begin with") + quotedAll(c.Values)
	case Empty:
		return of + is + "empty"
	case Pattern:
		return of + does("matches", "match") + "the pattern " + end(0)
	case LastDays:
		return of + is + "within the last " + end(0) + " days"
	case InMonth:
		return of + is + "in the month " + say.SomeOr(c.Values, 12)
	}
	switch {
	case end(0) == "":
		return of + is + "at most " + end(1)
	case end(1) == "":
		return of + is + "at least " + end(0)
	}
	return of + is + "between " + end(0) + " and " + end(1)
}

func (s Step) strikeSays() string {
	what := say.Plural(int64(len(s.Terms)), "term", "terms")
	if len(s.TermLists) > 0 {
		lists := "the saved terms " + quotedAll(s.TermLists)
		if what += " and " + lists; len(s.Terms) == 0 {
			what = lists
		}
	}
	how := map[How]string{AsWord: "as a word", AsPart: "anywhere in a cell", AsDomain: "as a domain", AsNumber: "as a number"}[s.How]
	if how == "" {
		how = "as a whole cell"
	}
	in := ""
	if len(s.Columns) > 0 {
		in = ", in " + quotedAll(s.Columns)
	}
	if s.Found {
		return "only rows that hold one of " + what + " " + how + in
	}
	return "struck by " + what + " " + how + in
}

// Says returns a change in words.
func (c Change) Says() string {
	of := quotedAll(c.Columns)
	if len(c.Columns) == 0 {
		of = "all columns"
	}
	switch c.Do {
	case Trim:
		return "spaces trimmed in " + of
	case Upper:
		return "capital letters in " + of
	case Lower:
		return "small letters in " + of
	case Salutation:
		return "salutation case in " + of
	case Replace:
		return quoted(c.Find) + " replaced by " + quoted(c.With) + " in " + of
	case SplitColumn:
		return of + " split at " + quoted(c.Find) + " into " + quoted(c.To) + " and " + quoted(c.Rest)
	case JoinColumns:
		return of + " joined as " + quoted(c.To)
	case RenameColumn:
		return of + " renamed to " + quoted(c.To)
	case OrderColumns:
		return of + " first"
	case DropColumns:
		return of + " dropped"
	}
	name := c.To
	if name == "" {
		name = string(c.Do)
	}
	made := "the column " + quoted(name) + " from "
	if len(c.Columns) == 0 {
		return made + "the address"
	}
	return made + of
}

// Facts are those that a recipe looks at.
func (r Recipe) Facts() (out []Fact) {
	for _, s := range r {
		for _, c := range s.Conditions {
			if c.Fact != "" {
				out = append(out, c.Fact)
			}
		}
	}
	return out
}

// Verified reports whether a fact is known by verifying an address alone. A trait may be, too, and
// is told by the address otherwise.
func (f Fact) Verified() bool { return f != FactDomain && f != FactTrait }

// Lists are the other lists that a recipe names, each once.
func (r Recipe) Lists() (out []string) {
	seen := map[string]bool{}
	for _, s := range r {
		for _, w := range s.With {
			if !seen[w] {
				seen[w] = true
				out = append(out, w)
			}
		}
	}
	return out
}

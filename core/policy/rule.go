package policy

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"varnet/core/finding"
	"varnet/core/rule"
	"varnet/core/say"
)

// Rule decides on the rows that it fits: those that fit all of what it names,
// and of each kind any. A rule that names nothing fits every row.
type Rule struct {
	Do       Decision
	Findings []finding.Finding
	Causes   []finding.Cause
	Traits   []finding.Trait
	// OddsFrom and OddsBelow bound the odds; 0 leaves them.
	OddsFrom  float64
	OddsBelow float64
	// Domains and Operators are names in which * stands for any text.
	Domains   []string
	Operators []string
	// Column names a column, Values what its cell may hold, without regard to
	// case and to spaces around it.
	Column string
	Values []string
	// TermLists names saved lists of terms, of which one must stand in that column, or in any
	// where none is named; How is how (see workshop.How), "" as the whole cell.
	TermLists []string
	How       string
	// OlderThan is an age of the result in days.
	OlderThan int
	// ActiveWithin: something was seen of the address in the last so many days. InactiveFor: nothing
	// was for so many days, or never.
	ActiveWithin, InactiveFor int
	// OpinionOf names another check, Opinions what it found of the address: one of these.
	OpinionOf string
	Opinions  []finding.Finding
}

func days(n int) time.Duration { return time.Duration(n) * 24 * time.Hour }

func (r *Rule) fits(row Row) bool {
	switch {
	case len(r.Findings) > 0 && !slices.Contains(r.Findings, row.Finding),
		len(r.Causes) > 0 && !slices.Contains(r.Causes, row.Cause),
		len(r.Traits) > 0 && !slices.ContainsFunc(r.Traits, row.Traits.Has),
		row.Odds < r.OddsFrom,
		r.OddsBelow > 0 && row.Odds >= r.OddsBelow,
		len(r.Domains) > 0 && !anyLike(r.Domains, row.Domain),
		len(r.Operators) > 0 && !anyLike(r.Operators, row.Operator),
		len(r.Values) > 0 && (row.Cell == nil || !anyLike(r.Values, row.Cell(r.Column))),
		len(r.TermLists) > 0 && (row.HasTerm == nil || !slices.ContainsFunc(r.TermLists, func(list string) bool { return row.HasTerm(list, r.How, r.Column) })),
		r.OlderThan > 0 && row.Age <= days(r.OlderThan),
		r.ActiveWithin > 0 && (row.Inactive < 0 || row.Inactive > days(r.ActiveWithin)),
		r.InactiveFor > 0 && row.Inactive >= 0 && row.Inactive <= days(r.InactiveFor),
		len(r.Opinions) > 0 && (row.Opinion == nil || !slices.Contains(r.Opinions, row.Opinion(r.OpinionOf))):
		return false
	}
	return true
}

// anyLike reports whether a text fits one of the patterns.
func anyLike(patterns []string, text string) bool {
	text = strings.ToLower(strings.TrimSpace(text))
	return slices.ContainsFunc(patterns, func(p string) bool { return rule.Like(text, strings.ToLower(strings.TrimSpace(p))) })
}

// reason is a noun for the rows that fit, for a sentence that counts them.
func (r *Rule) reason() string {
	parts := []string{orList(r.Findings, plain)}
	if len(r.Traits) > 0 {
		parts = append(parts, orList(r.Traits, traitName))
	}
	if len(r.Causes) > 0 {
		parts = append(parts, "for the cause "+orList(r.Causes, causeTitle))
	}
	switch {
	case r.OddsFrom > 0 && r.OddsBelow > 0:
		parts = append(parts, fmt.Sprintf("with odds from %.0f to under %.0f in 100", r.OddsFrom*100, r.OddsBelow*100))
	case r.OddsFrom > 0:
		parts = append(parts, fmt.Sprintf("with odds of %.0f in 100 or more", r.OddsFrom*100))
	case r.OddsBelow > 0:
		parts = append(parts, fmt.Sprintf("with odds under %.0f in 100", r.OddsBelow*100))
	}
	if len(r.Domains) > 0 {
		parts = append(parts, "at "+orList(r.Domains, plain))
	}
	if len(r.Operators) > 0 {
		parts = append(parts, "run by "+orList(r.Operators, plain))
	}
	if len(r.TermLists) > 0 {
		where := ""
		if r.Column != "" {
			where = " in the column " + quoted(r.Column)
		}
		parts = append(parts, "with one of the saved terms "+orList(r.TermLists, quoted)+where)
	}
	if len(r.Values) > 0 {
		parts = append(parts, "with "+orList(r.Values, quoted)+" in the column "+quoted(r.Column))
	}
	if r.OlderThan > 0 {
		parts = append(parts, fmt.Sprintf("checked more than %d days ago", r.OlderThan))
	}
	if r.ActiveWithin > 0 {
		parts = append(parts, fmt.Sprintf("active in the last %d days", r.ActiveWithin))
	}
	if r.InactiveFor > 0 {
		parts = append(parts, fmt.Sprintf("not seen active for %d days or ever", r.InactiveFor))
	}
	if len(r.Opinions) > 0 {
		parts = append(parts, fmt.Sprintf("that %s found %s", quoted(r.OpinionOf), orList(r.Opinions, plain)))
	}
	words := strings.Join(slices.DeleteFunc(parts, func(p string) bool { return p == "" }), " ")
	switch {
	case words == "":
		return "all others"
	case len(r.Findings)+len(r.Traits) == 0:
		return "addresses " + words
	}
	return words
}

// namedValues is how many values a reason names before it counts the others.
const namedValues = 4

func orList[T any](values []T, name func(T) string) string {
	names := make([]string, len(values))
	for i, v := range values {
		names[i] = name(v)
	}
	return say.SomeOr(names, namedValues)
}

func plain[T ~string](v T) string { return string(v) }

func quoted(v string) string {
	if strings.TrimSpace(v) == "" {
		return "nothing"
	}
	return "“" + v + "”"
}

func traitName(t finding.Trait) string {
	for _, i := range finding.TraitInfos() {
		if i.Code == t {
			return i.Many
		}
	}
	return string(t)
}

func causeTitle(c finding.Cause) string {
	i, _ := finding.Lookup(c)
	return quoted(i.Title)
}

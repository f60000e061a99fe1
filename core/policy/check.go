package policy

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"varnet/core/finding"
)

// MaxRules bounds a policy: a person must be able to read it.
const MaxRules = 100

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// Check tells what is wrong with a policy: the rule, what is wrong with it, and
// the remedy.
func (p Policy) Check() error {
	if !nameForm.MatchString(p.Name) {
		return fmt.Errorf("%q is not a name for a policy; use up to 40 small letters, digits and hyphens", p.Name)
	}
	if len(p.Rules) > MaxRules {
		return fmt.Errorf("the policy has %d rules; %d are the most", len(p.Rules), MaxRules)
	}
	if p.Otherwise != "" && !slices.Contains(Decisions(), p.Otherwise) {
		return fmt.Errorf("otherwise is %q; use keep, hold or drop", p.Otherwise)
	}
	for i := range p.Rules {
		if what := p.Rules[i].wrong(); what != "" {
			return fmt.Errorf("rule %d: %s", i+1, what)
		}
		if i > 0 && p.Rules[i-1].reason() == "all others" {
			return fmt.Errorf("rule %d is never reached: rule %d matches every row; put it last", i+1, i)
		}
	}
	return nil
}

// wrong says what is wrong with a rule, "" for nothing.
func (r *Rule) wrong() string {
	switch {
	case !slices.Contains(Decisions(), r.Do):
		return fmt.Sprintf("do is %q; use keep, hold or drop", r.Do)
	case r.OddsFrom < 0 || r.OddsFrom > 1 || r.OddsBelow < 0 || r.OddsBelow > 1:
		return "odds are from 0 to 1"
	case r.OddsBelow > 0 && r.OddsFrom >= r.OddsBelow:
		return "it matches nothing: oddsFrom must be less than oddsBelow"
	case r.Column == "" && len(r.Values) > 0:
		return "values are given, but no column that holds them"
	case r.Column != "" && len(r.Values)+len(r.TermLists) == 0:
		return fmt.Sprintf("the column %q is named without values; give what its cells may hold, \"\" for an empty one", r.Column)
	case r.How != "" && len(r.TermLists) == 0:
		return "how terms stand in a cell is said, but no saved terms are named"
	case !slices.Contains([]string{"", "cell", "word", "part", "domain", "number"}, r.How):
		return fmt.Sprintf("terms stand in a cell as cell, word, part, domain or number, not as %q", r.How)
	case r.ActiveWithin < 0 || r.InactiveFor < 0:
		return "activity is a number of days, 1 or more"
	case r.ActiveWithin > 0 && r.InactiveFor >= r.ActiveWithin:
		return "it matches nothing: an address that was active lately is not inactive for as long"
	case len(r.Opinions) > 0 && strings.TrimSpace(r.OpinionOf) == "":
		return "it says what another check found, and not whose check that is"
	case r.OpinionOf != "" && len(r.Opinions) == 0:
		return fmt.Sprintf("the check of %s is named, and not what it found", r.OpinionOf)
	case r.OlderThan < 0:
		return "an age is a number of days, 1 or more"
	}
	for _, f := range slices.Concat(r.Findings, r.Opinions) {
		if !slices.Contains(finding.Findings(), f) {
			return unknown("finding", f, finding.Findings())
		}
	}
	for _, c := range r.Causes {
		if _, ok := finding.Lookup(c); !ok {
			return fmt.Sprintf("there is no cause %q; \"varnet check -v\" and the words page show them", c)
		}
	}
	for _, t := range r.Traits {
		if !slices.ContainsFunc(finding.TraitInfos(), func(i finding.TraitInfo) bool { return i.Code == t }) {
			var known []finding.Trait
			for _, i := range finding.TraitInfos() {
				known = append(known, i.Code)
			}
			return unknown("trait", t, known)
		}
	}
	for _, pattern := range slices.Concat(r.Domains, r.Operators) {
		if strings.TrimSpace(pattern) == "" || strings.Count(pattern, "*") > 8 {
			return fmt.Sprintf("%q is not the name of a domain or operator; at most 8 stars stand for any text", pattern)
		}
	}
	return ""
}

func unknown[T ~string](kind string, v T, known []T) string {
	var names []string
	for _, k := range known {
		names = append(names, string(k))
	}
	return fmt.Sprintf("there is no %s %q; there is: %s", kind, v, strings.Join(names, ", "))
}

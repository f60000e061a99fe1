// Package rule holds the operator's own rules about whom to ask and how. The
// first rule that fits an address counts.
package rule

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Of is what a rule looks at.
type Of string

// What a rule can look at.
const (
	OfDomain   Of = "domain"
	OfOperator Of = "operator"
	OfAddress  Of = "address"
)

// Rule says how the addresses it fits are asked. What it leaves empty stays as
// it is for all.
type Rule struct {
	Of Of
	// Pattern is a name; "*" stands for any text.
	Pattern string
	// Depth is how far these addresses go at most: "" for as far as the
	// run, "domain" or "syntax", "never" for no asking at all.
	Depth string
	// Lanes is the most sessions at a time; 0 for the usual.
	Lanes int
	// Rest is how long the operator rests after each parcel, in seconds.
	Rest int
	// Route and Identity name which to use; "" for the usual.
	Route    string
	Identity string
	// Hours are when they may be asked, such as 22:00-06:00, in the zone.
	Hours string
	Zone  string
	Note  string
}

// Never is the depth of addresses that are not asked about.
const Never = "never"

// depths are those of rules, the one that asks least first.
var depths = []string{Never, "syntax", "domain", ""}

// Shallower returns which of two depths asks less.
func Shallower(a, b string) string {
	return depths[min(max(0, slices.Index(depths, a)), max(0, slices.Index(depths, b)))]
}

// CheckOwn tells what is wrong with a rule of a workspace: such a rule says how far its
// addresses go, and nothing else. How hosts are asked is the installation's.
func (r *Rule) CheckOwn() error {
	if r.Lanes != 0 || r.Rest != 0 || r.Route != "" || r.Identity != "" || r.Hours != "" || r.Zone != "" {
		return errors.New("a rule of a workspace says how far to go (never, syntax or domain); how and when hosts are asked is set for the installation")
	}
	return r.Check()
}

// Subject is what rules are held against.
type Subject struct {
	Address, Domain string
	// Operator is "" while the domain has not been looked up.
	Operator string
}

// First returns the place of the first rule that fits, -1 for none.
func First(rules []Rule, s Subject) int {
	for i := range rules {
		if rules[i].Fits(s) {
			return i
		}
	}
	return -1
}

// Fits reports whether the rule counts for the subject.
func (r *Rule) Fits(s Subject) bool {
	text := map[Of]string{OfDomain: s.Domain, OfOperator: s.Operator, OfAddress: s.Address}[r.Of]
	return text != "" && Like(strings.ToLower(text), strings.ToLower(r.Pattern))
}

// Like holds a text against a pattern in which * stands for any text. It takes
// time in proportion to the lengths, whatever the pattern.
func Like(text, pattern string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return text == pattern
	}
	text, ok := strings.CutPrefix(text, parts[0])
	if !ok {
		return false
	}
	for _, p := range parts[1 : len(parts)-1] {
		i := strings.Index(text, p)
		if i < 0 {
			return false
		}
		text = text[i+len(p):]
	}
	return strings.HasSuffix(text, parts[len(parts)-1])
}

// Check tells what is wrong with the rule, in a sentence.
func (r *Rule) Check() error {
	switch {
	case r.Of != OfDomain && r.Of != OfOperator && r.Of != OfAddress:
		return fmt.Errorf("%q is nothing a rule can look at; use domain, operator or address", r.Of)
	case strings.TrimSpace(r.Pattern) == "":
		return errors.New("the rule has no pattern; name a domain, an operator or an address, with * for any text")
	case strings.Count(r.Pattern, "*") > 8:
		return fmt.Errorf("the pattern %q has more than 8 stars", r.Pattern)
	case r.Depth == "" && r.Lanes == 0 && r.Rest == 0 && r.Route == "" && r.Identity == "" && r.Hours == "":
		return errors.New("the rule changes nothing; give a depth, lanes, a rest, a route, an identity or hours")
	case r.Lanes < 0 || r.Lanes > 20 || r.Rest < 0 || r.Rest > 3600:
		return errors.New("lanes are 1 to 20, a rest is 1 to 3,600 seconds")
	case r.Of != OfOperator && r.Lanes+r.Rest > 0:
		return errors.New("lanes and rests are an operator's; give them in a rule that looks at the operator")
	case r.Depth != "" && r.Depth != Never && r.Depth != "domain" && r.Depth != "syntax":
		return fmt.Errorf("%q is not the depth of a rule; use never, domain or syntax", r.Depth)
	}
	_, err := r.Opens(time.Now())
	return err
}

// Opens tells when the rule's addresses may be asked: now, which is zero, or
// when its hours begin.
func (r *Rule) Opens(now time.Time) (time.Time, error) {
	return Hours{r.Hours, r.Zone}.Opens(now)
}

// String says the rule in a sentence.
func (r *Rule) String() string {
	whom := map[Of]string{OfDomain: "Addresses at ", OfOperator: "Addresses whose mail hosts are run by ", OfAddress: "Addresses like "}[r.Of] + r.Pattern
	var how []string
	say := func(is bool, format string, args ...any) {
		if is {
			how = append(how, fmt.Sprintf(format, args...))
		}
	}
	say(r.Depth == Never, "are never asked about")
	say(r.Depth != "" && r.Depth != Never, "are checked down to the %s and no further", r.Depth)
	say(r.Lanes > 0, "are asked on at most %d at a time", r.Lanes)
	say(r.Rest > 0, "get %d seconds of rest after each parcel", r.Rest)
	say(r.Route != "", "are asked by the route %s", r.Route)
	say(r.Identity != "", "are asked as %s", r.Identity)
	say(r.Hours != "", "are asked from %s only", Hours{r.Hours, r.Zone})
	return whom + " " + strings.Join(how, ", ") + "."
}

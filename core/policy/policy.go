// Package policy turns what was found out about a row into a decision: keep,
// hold or drop. Decisions are computed, never stored, so that a policy can be
// changed without asking any host again.
package policy

import (
	"fmt"
	"strings"

	"varnet/core/finding"
)

// Decision is what to do with a row.
type Decision string

// The three decisions.
const (
	Keep Decision = "keep"
	Hold Decision = "hold"
	Drop Decision = "drop"
)

// Decisions lists the three, best first.
func Decisions() []Decision { return []Decision{Keep, Hold, Drop} }

// Ruling is a decision and the reason that a person reads.
type Ruling struct {
	Decision Decision
	// Reason is a noun for a sentence that counts ("1,102 undeliverable").
	Reason string
}

// Rule decides on the verdicts that it fits.
type Rule struct {
	Finding finding.Finding // "" fits every finding
	Trait   finding.Trait   // "" fits every address
	// Odds fits addresses with odds of so much or more; 0 fits all.
	Odds float64
	Decision
}

// Policy is an ordered list of rules; the first that fits decides.
type Policy struct {
	Name string
	// For says in a sentence when it is the right one.
	For   string
	Rules []Rule
}

// Careful is the default: keep the deliverable without harmful traits; hold
// catch-all, undecided and role; drop the rest.
func Careful() Policy {
	return Policy{"careful", "For a mailing whose sender cannot afford bounces.", append(harm(),
		Rule{Finding: finding.CatchAll, Decision: Hold},
		Rule{Finding: finding.Undecided, Decision: Hold},
		Rule{Trait: finding.TraitRole, Decision: Hold},
		Rule{Finding: finding.Deliverable, Decision: Keep},
	)}
}

// furtherOdds is the bar for catch-all addresses of ReachFurther.
const furtherOdds = 0.5

// ReachFurther keeps catch-all addresses with fair odds, too.
func ReachFurther() Policy {
	return Policy{"reach-further", "For business lists, of which a third is often catch-all: it keeps those with odds of 50 in 100 or more, and some of them bounce.", append(harm(),
		Rule{Trait: finding.TraitRole, Decision: Hold},
		Rule{Finding: finding.CatchAll, Odds: furtherOdds, Decision: Keep},
		Rule{Finding: finding.CatchAll, Decision: Hold},
		Rule{Finding: finding.Undecided, Decision: Hold},
		Rule{Finding: finding.Deliverable, Decision: Keep},
	)}
}

// Strict keeps people's own addresses at their own domains, and no other.
func Strict() Policy {
	return Policy{"strict", "For sales contacts: free-mail, role and catch-all addresses are dropped.", append(harm(),
		Rule{Trait: finding.TraitRole, Decision: Drop},
		Rule{Trait: finding.TraitFreeMail, Decision: Drop},
		Rule{Finding: finding.CatchAll, Decision: Drop},
		Rule{Finding: finding.Undecided, Decision: Hold},
		Rule{Finding: finding.Deliverable, Decision: Keep},
	)}
}

// harm drops what is undeliverable and what has a harmful trait: every ready
// policy begins so.
func harm() []Rule {
	rules := []Rule{{Finding: finding.Undeliverable, Decision: Drop}}
	for _, t := range finding.TraitInfos() {
		if t.Harmful {
			rules = append(rules, Rule{Trait: t.Code, Decision: Drop})
		}
	}
	return rules
}

// Ready lists the ready-made policies, the default first.
func Ready() []Policy { return []Policy{Careful(), ReachFurther(), Strict()} }

// Named gives the ready-made policy of that name.
func Named(name string) (Policy, error) {
	var names []string
	for _, p := range Ready() {
		if name == p.Name {
			return p, nil
		}
		names = append(names, p.Name)
	}
	return Policy{}, fmt.Errorf("there is no policy named %q; there is: %s", name, strings.Join(names, ", "))
}

// Decide rules on an address. What no rule fits is dropped.
func (p Policy) Decide(v finding.Verdict) Ruling {
	for _, r := range p.Rules {
		if (r.Finding == "" || r.Finding == v.Finding) && (r.Trait == "" || v.Traits.Has(r.Trait)) && v.Odds >= r.Odds {
			return Ruling{r.Decision, r.reason()}
		}
	}
	return Ruling{Drop, "that no rule of the policy fits"}
}

// Says says the policy in sentences, one for each decision after the other.
func (p Policy) Says() (sentences []string) {
	for i := 0; i < len(p.Rules); {
		d, whom := p.Rules[i].Decision, []string{}
		for ; i < len(p.Rules) && p.Rules[i].Decision == d; i++ {
			whom = append(whom, p.Rules[i].reason())
		}
		verb := strings.ToUpper(string(d)[:1]) + string(d)[1:]
		if len(sentences) > 0 {
			verb = "Of the rest " + string(d)
		}
		sentences = append(sentences, verb+": "+strings.Join(whom, ", ")+".")
	}
	return sentences
}

func (r Rule) reason() string {
	reason := string(r.Finding)
	for _, t := range finding.TraitInfos() {
		if t.Code == r.Trait {
			reason = t.Many
		}
	}
	if r.Odds > 0 {
		reason += fmt.Sprintf(" with odds of %.0f in 100 or more", r.Odds*100)
	}
	return reason
}

// Rulings on rows that are decided on before the policy is asked.
var (
	NoAddress = Ruling{Drop, "without an address"}
	Duplicate = Ruling{Drop, "duplicates of an earlier row"}
	Open      = Ruling{Hold, "not concluded yet"}
)

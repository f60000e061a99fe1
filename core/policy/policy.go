// Package policy turns what was found out about a row into a decision: keep,
// hold or drop. Decisions are computed, never stored, so that a policy can be
// changed without asking any host again.
package policy

import (
	"fmt"

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
	Decision
}

// Policy is an ordered list of rules; the first that fits decides.
type Policy struct {
	Name  string
	Rules []Rule
}

// Careful is the default: keep the deliverable without harmful traits; hold
// catch-all, undecided and role; drop the rest.
func Careful() Policy {
	p := Policy{Name: "careful"}
	p.Rules = append(p.Rules, Rule{Finding: finding.Undeliverable, Decision: Drop})
	for _, t := range finding.TraitInfos() {
		if t.Harmful {
			p.Rules = append(p.Rules, Rule{Trait: t.Code, Decision: Drop})
		}
	}
	p.Rules = append(p.Rules,
		Rule{Finding: finding.CatchAll, Decision: Hold},
		Rule{Finding: finding.Undecided, Decision: Hold},
		Rule{Trait: finding.TraitRole, Decision: Hold},
		Rule{Finding: finding.Deliverable, Decision: Keep},
	)
	return p
}

// Named gives the ready-made policy of that name.
func Named(name string) (Policy, error) {
	if p := Careful(); name == p.Name {
		return p, nil
	}
	return Policy{}, fmt.Errorf("there is no policy named %q; there is: careful", name)
}

// Decide rules on an address. What no rule fits is dropped.
func (p Policy) Decide(v finding.Verdict) Ruling {
	for _, r := range p.Rules {
		if (r.Finding == "" || r.Finding == v.Finding) && (r.Trait == "" || v.Traits.Has(r.Trait)) {
			return Ruling{r.Decision, r.reason()}
		}
	}
	return Ruling{Drop, "that no rule of the policy fits"}
}

func (r Rule) reason() string {
	for _, t := range finding.TraitInfos() {
		if t.Code == r.Trait {
			return t.Many
		}
	}
	return string(r.Finding)
}

// Rulings on rows that are decided on before the policy is asked.
var (
	NoAddress = Ruling{Drop, "without an address"}
	Duplicate = Ruling{Drop, "duplicates of an earlier row"}
	Open      = Ruling{Hold, "not concluded yet"}
)

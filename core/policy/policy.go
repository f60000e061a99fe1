// Package policy turns what was found out about a row into a decision: keep,
// hold or drop. Decisions are computed, never stored, so that a policy can be
// changed without asking any host again.
//
//	p, err := policy.Named("careful")
//	ruling := p.Decide(policy.Row{Verdict: verdict})
package policy

import (
	"fmt"
	"strings"
	"time"

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

// ReasonCode is why a row has its decision.
type ReasonCode string

// The reasons. What a policy decides, it decides by a rule or because none fits; the
// others go before it.
const (
	ByRule      ReasonCode = "rule"
	ByOtherwise ReasonCode = "otherwise"
	NoAddress   ReasonCode = "no-address"
	Duplicate   ReasonCode = "duplicate"
	Open        ReasonCode = "open"
	Overridden  ReasonCode = "override"
)

// reasons holds the words of each reason but a rule's, which has its own.
var reasons = map[ReasonCode]string{
	ByOtherwise: "that no rule of the policy matches",
	NoAddress:   "without an address",
	Duplicate:   "duplicates of an earlier row",
	Open:        "not concluded yet",
	Overridden:  "overridden by a person",
}

// Ruling is a decision and the reason for it.
type Ruling struct {
	Decision Decision
	Code     ReasonCode
	// Reason is what a person reads: a noun for a sentence that counts ("1,102
	// undeliverable").
	Reason string
}

// Because returns the ruling for a reason other than a rule.
func Because(code ReasonCode, d Decision) Ruling { return Ruling{d, code, reasons[code]} }

// Row is what a policy looks at.
type Row struct {
	finding.Verdict
	Domain, Operator string
	// Age is how long ago the result was found.
	Age time.Duration
	// Inactive is how long ago something was seen of the address; below 0: never.
	Inactive time.Duration
	// Opinion returns what another check found of the address, "" for nothing; nil where there is
	// none.
	Opinion func(name string) finding.Finding
	// Cell returns the row's cell in a column; nil where there are no columns.
	Cell func(column string) string
	// HasTerm reports whether a saved term stands in a column, in any for ""; nil where there are
	// no columns.
	HasTerm func(list, how, column string) bool
}

// Policy is an ordered list of rules; the first that fits decides.
type Policy struct {
	Name string
	// Version counts how often a policy of one's own was changed; 0 is a
	// ready-made one.
	Version int
	For     string
	Rules   []Rule
	// Otherwise decides what no rule fits; "" drops it.
	Otherwise Decision
}

// Careful is the default: keep the deliverable without harmful traits, and catch-all
// addresses that a message was sent to without a bounce; hold other catch-all, undecided
// and role; drop the rest.
func Careful() Policy {
	return Policy{Name: "careful", For: "For a mailing whose sender cannot afford bounces.", Rules: append(harm(),
		settled(), of(Hold, finding.CatchAll), of(Hold, finding.Undecided), with(Hold, finding.TraitRole), of(Keep, finding.Deliverable))}
}

// furtherOdds is the bar for catch-all addresses of ReachFurther.
const furtherOdds = 0.5

// ReachFurther keeps catch-all addresses with fair odds, too.
func ReachFurther() Policy {
	further := of(Keep, finding.CatchAll)
	further.OddsFrom = furtherOdds
	return Policy{Name: "reach-further", For: "For business lists, of which a third is often catch-all: it keeps those with odds of 50 in 100 or more, and some of them bounce.",
		Rules: append(harm(), with(Hold, finding.TraitRole), settled(), further, of(Hold, finding.CatchAll), of(Hold, finding.Undecided), of(Keep, finding.Deliverable))}
}

// strictDays is how old a result may be under Strict.
const strictDays = 30

// Strict keeps people's own addresses at their own domains, checked lately,
// and no other.
func Strict() Policy {
	return Policy{Name: "strict", For: "For sales contacts: free-mail, role and catch-all addresses are dropped, and what was checked more than 30 days ago is held.",
		Rules: append(harm(), with(Drop, finding.TraitRole), with(Drop, finding.TraitFreeMail), settled(), of(Drop, finding.CatchAll), of(Hold, finding.Undecided),
			Rule{Do: Hold, OlderThan: strictDays}, of(Keep, finding.Deliverable))}
}

func of(d Decision, f finding.Finding) Rule { return Rule{Do: d, Findings: []finding.Finding{f}} }

// settled keeps catch-all addresses that a message was really sent to and did not bounce.
func settled() Rule { return Rule{Do: Keep, Causes: []finding.Cause{finding.MailboxSettled}} }

func with(d Decision, t finding.Trait) Rule { return Rule{Do: d, Traits: []finding.Trait{t}} }

// harm drops what is undeliverable and what has a harmful trait: every ready
// policy begins so.
func harm() []Rule {
	rules := []Rule{of(Drop, finding.Undeliverable)}
	for _, t := range finding.TraitInfos() {
		if t.Harmful {
			rules = append(rules, with(Drop, t.Code))
		}
	}
	return rules
}

// Ready lists the ready-made policies, the default first.
func Ready() []Policy { return []Policy{Careful(), ReachFurther(), Strict()} }

// Named returns the ready-made policy of that name.
func Named(name string) (Policy, error) {
	var names []string
	for _, p := range Ready() {
		if name == p.Name {
			return p, nil
		}
		names = append(names, p.Name)
	}
	return Policy{}, fmt.Errorf("there is no policy named %q; ready-made are: %s", name, strings.Join(names, ", "))
}

// Decide rules on a row.
func (p Policy) Decide(r Row) Ruling { return p.Ruling(p.First(r)) }

// First returns the place of the first rule that fits, len(p.Rules) for none.
func (p Policy) First(r Row) int {
	for i := range p.Rules {
		if p.Rules[i].fits(r) {
			return i
		}
	}
	return len(p.Rules)
}

// Ruling is what comes of the rule at a place, or of none.
func (p Policy) Ruling(rule int) Ruling {
	if rule < len(p.Rules) {
		return Ruling{p.Rules[rule].Do, ByRule, p.Rules[rule].reason()}
	}
	return Because(ByOtherwise, p.otherwise())
}

// Rulings are what can come of the policy, by the place of the rule; the last
// is for what no rule fits.
func (p Policy) Rulings() (out []Ruling) {
	for i := range len(p.Rules) + 1 {
		out = append(out, p.Ruling(i))
	}
	return out
}

// ByVerdict reports whether rows with the same verdict get the same ruling, as
// long as no result is older than oldest: then verdicts can be counted, and
// rows need not be looked at.
func (p Policy) ByVerdict(oldest time.Duration) bool {
	for _, r := range p.Rules {
		if len(r.Domains)+len(r.Operators)+len(r.TermLists) > 0 || r.Column != "" || r.ActiveWithin+r.InactiveFor+len(r.Opinions) > 0 || r.OlderThan > 0 && oldest > days(r.OlderThan) {
			return false
		}
	}
	return true
}

func (p Policy) otherwise() Decision {
	if p.Otherwise == "" {
		return Drop
	}
	return p.Otherwise
}

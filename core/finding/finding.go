// Package finding holds what Varnet can say of an address: the four findings,
// the registry of causes, the traits, and the odds of delivery.
//
// Every other part of Varnet (API, console, exports, report, documents) takes
// its codes and its words from here and from nowhere else.
package finding

import "fmt"

// Finding is what was found out about an address.
type Finding string

// The four findings.
const (
	// Deliverable: the host takes mail for this mailbox, and refuses
	// mailboxes that do not exist.
	Deliverable Finding = "deliverable"
	// CatchAll: the host takes mail for any mailbox of the domain, so its
	// yes proves nothing.
	CatchAll Finding = "catch-all"
	// Undecided: nothing was learnt about the mailbox; the reason lies with
	// the host, the network, us or the moment.
	Undecided Finding = "undecided"
	// Undeliverable: mail to it cannot arrive, and the reason lies with the
	// address, its domain or its mailbox.
	Undeliverable Finding = "undeliverable"
)

// Findings lists the four findings, best first.
func Findings() []Finding {
	return []Finding{Deliverable, CatchAll, Undecided, Undeliverable}
}

// Meaning says in a sentence what the finding means.
func (f Finding) Meaning() string { return meanings[f] }

var meanings = map[Finding]string{
	Deliverable:   "the host takes mail for this mailbox, and refuses mailboxes that do not exist.",
	CatchAll:      "the host takes mail for any mailbox of the domain, so its yes proves nothing.",
	Undecided:     "nothing was learnt about the mailbox; the reason lies with the host, the network, us or the moment.",
	Undeliverable: "mail to it cannot arrive, and the reason lies with the address, its domain or its mailbox.",
}

// Verdict is all that is said of one address: finding, cause, traits and odds.
// Addresses with equal verdicts are counted together, and a policy needs
// nothing else to decide on most of them.
type Verdict struct {
	Finding Finding
	Cause   Cause
	Traits  Traits
	// Odds is the estimated probability, 0 to 1 in steps of 0.01, that a
	// message sent now would be delivered.
	Odds float64
}

// Conclude makes the verdict for a finding and its cause; the odds follow from
// them and the traits. It panics when the registry does not allow the pair,
// for that is a fault in the program.
func Conclude(f Finding, c Cause, t Traits) Verdict {
	info, ok := Lookup(c)
	if !ok {
		panic(fmt.Sprintf("finding: cause %q is not in the registry", c))
	}
	if !info.allows(f) {
		panic(fmt.Sprintf("finding: cause %q does not go with %q", c, f))
	}
	return Verdict{Finding: f, Cause: c, Traits: t, Odds: Odds(f, c, t)}
}

// ConcludeFrom makes the verdict for a cause that goes with one finding only.
func ConcludeFrom(c Cause, t Traits) Verdict {
	info, ok := Lookup(c)
	if !ok || len(info.Findings) != 1 {
		panic(fmt.Sprintf("finding: cause %q alone does not tell the finding", c))
	}
	return Conclude(info.Findings[0], c, t)
}

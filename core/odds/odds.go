// Package odds learns from what became of messages how likely one to a catch-all address
// arrives: what arrived at its domain and its operator, and whether the address fits the naming
// habit of its domain.
//
// The model is logistic and small. It begins with what the shipped table says (finding.Odds), to
// which the evidence adds its weight in log odds. Weights are fitted to outcomes and held near
// what is believed beforehand where there are few (ridge), domains near their operators and
// operators near all others. Without any outcome the odds are those of the table.
package odds

import (
	"fmt"
	"math"

	"varnet/core/finding"
	"varnet/core/say"
)

// Evidence is what is known of a catch-all address before anything is sent to it.
type Evidence struct {
	Domain, Operator string
	// Prior is what the shipped table says, 0 to 1.
	Prior float64
	Facts
	// Known are the domain's mailboxes that a message arrived at, List the addresses of the
	// domain in the same list, itself among them; nil: there are none.
	Known, List *Neighbours
	// IsKnown: it is itself one of those known.
	IsKnown bool
}

// Outcome is what became of a message to an address.
type Outcome struct {
	Evidence
	Arrived bool
	// AgeDays is how long ago it was sent; older outcomes weigh less.
	AgeDays float64
	// Times is how many outcomes it stands for; 0: one. Counts that are shared without their
	// addresses have no facts.
	Times float64
}

// Effect is how far a domain is from the others of its operator, in log odds.
type Effect struct {
	Operator string
	Shift    float64
	Seen     Seen
}

// Model is what was learnt. Its zero value, and nil, have learnt nothing.
type Model struct {
	Base      float64 // of all catch-all addresses, beyond the shipped table
	Weights   map[Feature]float64
	Seen      map[Feature]Seen
	Operators map[string]float64 // how far each is from the others, in log odds
	Domains   map[string]Effect
	Usual     Usual
}

// Odds returns the probability, 0 to 1, that a message arrives, and what beyond the shipped table
// it was made of, in order: the product of prior and factors is the odds.
func (m *Model) Odds(e Evidence) (p float64, factors []finding.Factor) {
	if m == nil {
		return e.Prior, nil
	}
	at := logit(e.Prior)
	p = e.Prior
	step := func(shift float64, what, basis string) {
		if math.Abs(shift) < least {
			return
		}
		at += shift
		next := expit(at)
		factors = append(factors, finding.Factor{What: what, Times: next / p, Basis: basis})
		p = next
	}
	step(m.Base, "catch-all addresses in your mailings", m.Usual.Seen.says("messages to them"))
	if o, ok := m.Operators[e.Operator]; ok {
		step(o, "the operator "+e.Operator, m.Usual.Operators[e.Operator].says("messages to catch-all addresses there"))
	}
	if d, ok := m.Domains[e.Domain]; ok {
		step(d.Shift, "the domain "+e.Domain, d.Seen.says("messages there"))
	}
	for _, s := range m.Usual.signs(e, e.Known.All() >= enoughKnown) {
		step(m.Weights[s.Feature]*s.strength, s.says, m.Seen[s.Feature].says("messages to such addresses"))
	}
	return p, factors
}

// least is the shift in log odds from which on a factor is told: under half a point in 100.
const least = 0.02

// Seen counts messages.
type Seen struct{ Arrived, Of float64 }

func (s Seen) with(o *Outcome) Seen {
	if o.Arrived {
		s.Arrived += o.Times
	}
	s.Of += o.Times
	return s
}

func (s Seen) says(what string) string {
	return fmt.Sprintf("%s of %s %s arrived", say.Number(int64(math.Round(s.Arrived))), say.Number(int64(math.Round(s.Of))), what)
}

// The bounds of a probability, so that its log odds are finite.
const (
	lowest  = 0.005
	highest = 0.995
)

func logit(p float64) float64 {
	p = min(max(p, lowest), highest)
	return math.Log(p / (1 - p))
}

func expit(x float64) float64 { return 1 / (1 + math.Exp(-x)) }

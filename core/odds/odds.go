// Package odds learns from what became of messages how likely one to a catch-all address
// arrives: what arrived at its domain and its operator, and whether the address fits the naming
// habit of its domain.
//
// The model is logistic and small. It begins with what the shipped table says (finding.Odds), to
// which the evidence adds its weight in log odds. Weights are fitted to outcomes and held near
// zero where there are few (ridge), domains near their operators and operators near all others,
// so that without any outcome the odds are those of the table.
//
//	m := odds.Fit(outcomes)
//	p, factors := m.Odds(odds.Evidence{Domain: "orchard.example", Operator: "hosting.example", Prior: 0.55,
//		Features: odds.Features{odds.FitsHabit: 0.93}, Follow: 41, Of: 44})
package odds

import (
	"fmt"
	"math"

	"varnet/core/say"
)

// Feature is something about an address that tells for or against its mailbox.
type Feature string

// The features. Those of the habit are the share of the domain's known addresses that follow it,
// 0 to 1; the others are 1 or not there.
const (
	FitsHabit    Feature = "fits-habit"     // made of the row's name as the domain's others are
	OtherPattern Feature = "other-pattern"  // made of the row's name, but otherwise than the others
	NotItsName   Feature = "not-its-name"   // not made of the row's name by any pattern known
	FitsShape    Feature = "fits-shape"     // without a name to compare with, it looks like the others
	OtherShape   Feature = "other-shape"    // without a name to compare with, it looks otherwise
	Role         Feature = "role"           // a task, not a person
	Random       Feature = "random-looking" // as nobody would call a mailbox
)

// Features are the features of an address by their strength.
type Features map[Feature]float64

// features are all of them, in the order in which they are told, with their words. %d of %d are the
// known addresses of the domain that follow its habit.
var features = []struct {
	Feature
	says  string
	habit bool
}{
	{FitsHabit, "made of its name as %d of %d known addresses of the domain are", true},
	{OtherPattern, "made of its name otherwise than %d of %d known addresses of the domain", true},
	{NotItsName, "not made of the name in its row", false},
	{FitsShape, "looks like %d of %d known addresses of the domain", true},
	{OtherShape, "looks otherwise than %d of %d known addresses of the domain", true},
	{Role, "a task and not a person", false},
	{Random, "looks random", false},
}

// Evidence is what is known of a catch-all address before anything is sent to it.
type Evidence struct {
	Domain, Operator string
	// Prior is what the shipped table says, 0 to 1.
	Prior    float64
	Features Features
	// Follow of Of known addresses of the domain follow its habit, for the words.
	Follow, Of int
}

// Outcome is what became of a message to an address.
type Outcome struct {
	Evidence
	Arrived bool
	// AgeDays is how long ago it was sent; older outcomes weigh less.
	AgeDays float64
	// Times is how many outcomes it stands for; 0: one. Counts that are shared without their
	// addresses have no features.
	Times float64
}

// Factor is one thing that the odds were made of; their product is the odds.
type Factor struct {
	What  string
	Times float64
	Basis string
}

// Odds returns the probability, 0 to 1, that a message arrives, and what it was made of.
func (m *Model) Odds(e Evidence) (p float64, factors []Factor) {
	at := logit(e.Prior)
	p = e.Prior
	step := func(shift float64, what, basis string) {
		if math.Abs(shift) < least {
			return
		}
		at += shift
		next := expit(at)
		factors = append(factors, Factor{what, next / p, basis})
		p = next
	}
	if m == nil {
		return p, nil
	}
	step(m.Base, "what this installation has seen of catch-all addresses", m.All.says("messages to such addresses"))
	if o, ok := m.Operators[e.Operator]; ok {
		step(o.Shift, "what it has seen at the operator "+e.Operator, o.Seen.says("messages to catch-all addresses there"))
	}
	if d, ok := m.Domains[e.Domain]; ok {
		step(d.Shift, "what it has seen at the domain "+e.Domain, d.Seen.says("messages there"))
	}
	for _, f := range features {
		if x := e.Features[f.Feature]; x != 0 {
			what := f.says
			if f.habit {
				what = fmt.Sprintf(f.says, e.Follow, e.Of)
			}
			step(m.Weights[f.Feature]*x, what, m.Seen[f.Feature].says("messages to such addresses"))
		}
	}
	return p, factors
}

// least is the shift in log odds from which on a factor is told: under half a point in 100.
const least = 0.02

// Seen counts messages.
type Seen struct{ Arrived, Of float64 }

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

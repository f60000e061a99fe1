package outbound

import (
	"fmt"
	"strings"
)

// Grade is how a check came out.
type Grade string

// The grades.
const (
	Good        Grade = "good"
	Reservation Grade = "reservation" // it works, and some hosts will mind
	Bad         Grade = "bad"         // it is of no use as it is
)

// Check is one thing that was looked at.
type Check struct {
	Grade Grade
	Says  string
	Do    string
}

// Outcome is what came of looking at one part.
type Outcome struct {
	Checks []Check
	// TookMS is how long the resolver took to answer, or the route to a mail
	// host's greeting; 0 where neither came about.
	TookMS float64
	// Public is the address of a route that mail hosts see; "" for unknown.
	Public string
}

// Grade is the worst grade of the outcome's checks; "" for none made.
func (o Outcome) Grade() (g Grade) {
	rank := map[Grade]int{"": 0, Good: 1, Reservation: 2, Bad: 3}
	for _, c := range o.Checks {
		if rank[c.Grade] > rank[g] {
			g = c.Grade
		}
	}
	return g
}

// Add adds a check.
func (o *Outcome) Add(g Grade, do, format string, args ...any) {
	o.Checks = append(o.Checks, Check{g, fmt.Sprintf(format, args...), do})
}

// State is whether the outbound side can be used.
type State string

// The states.
const (
	Untested State = "untested"
	Ready    State = "ready"
	Wary     State = "ready with reservations"
	NotReady State = "not ready"
)

// Readiness is the sum of all outcomes.
type Readiness struct {
	State State
	// Says is a sentence, with the effect to expect.
	Says string
	// Next is the one thing to do next; "" when there is nothing.
	Next string
}

// Tested is a part with what came of looking at it.
type Tested struct {
	Part
	Outcome
}

// Judge sums up. Without a good resolver and a good route nothing can be asked.
func Judge(parts []Tested) Readiness {
	usable, all := map[Kind]int{}, map[Kind]int{}
	var worst *Check
	var whose *Tested
	next := func(p *Tested, c *Check) {
		if c.Grade != Good && (worst == nil || worst.Grade == Reservation && c.Grade == Bad) {
			worst, whose = c, p
		}
	}
	for _, k := range Kinds() {
		for i := range parts {
			p := &parts[i]
			if p.Kind != k || p.Grade() == "" {
				continue
			}
			all[k]++
			if p.Grade() != Bad {
				usable[k]++
			}
			for j := range p.Checks {
				next(p, &p.Checks[j])
			}
		}
	}
	s := Readiness{State: Ready, Says: sum(usable, all) + "."}
	if worst != nil {
		s.Next = worst.Says + " " + worst.Do
		if !strings.Contains(worst.Says, whose.Name) {
			s.Next = fmt.Sprintf("%s %s: %s", strings.ToUpper(string(whose.Kind)[:1])+string(whose.Kind)[1:], whose.Name, s.Next)
		}
	}
	switch {
	case len(all) == 0:
		return Readiness{Untested, "Outbound has not been tested yet.", "Test it: it takes some seconds and asks nobody about a mailbox."}
	case all[Resolver] > 0 && usable[Resolver] == 0:
		s.State, s.Says = NotReady, "No resolver can be relied on, so no domain can be looked up: every address would come out undecided."
	case all[Route] > 0 && usable[Route] == 0:
		s.State, s.Says = NotReady, "No route comes as far as a mail host, so no mailbox can be asked about: every address with a mail host would come out undecided."
	case worst != nil:
		s.State = Wary
		s.Says += " Some hosts may refuse us; addresses there come out undecided, never undeliverable."
	}
	return s
}

func sum(usable, all map[Kind]int) string {
	var parts []string
	say := func(k Kind, does string) {
		if all[k] > 0 {
			parts = append(parts, fmt.Sprintf("%d of %d %s", usable[k], all[k], does))
		}
	}
	say(Resolver, "resolvers can be relied on")
	say(Route, "routes reach a mail host")
	say(Identity, "identities can be used")
	return strings.Join(parts, ", ")
}

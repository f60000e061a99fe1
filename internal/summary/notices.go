package summary

import (
	"fmt"
	"time"

	"varnet/core/finding"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// happenings say what happened to outbound during a run: a sentence
// for each route that hosts refused, one for each that was left alone.
func happenings(list []store.Notice, zone *time.Location) []string {
	out := []string{}
	byRoute := map[string][]store.Notice{}
	for _, n := range list {
		if n.Kind == "refused" {
			byRoute[n.Route] = append(byRoute[n.Route], n)
		}
	}
	told := map[string]bool{}
	for _, n := range list {
		switch n.Kind {
		case "refused":
			if !told[n.Route] {
				told[n.Route] = true
				out = append(out, refused(byRoute[n.Route], zone))
			}
		case "rests":
			out = append(out, fmt.Sprintf("At %s too many hosts refused the route %s, so it is left alone until %s. %s", Clock(n.At, zone), n.Route, Clock(*n.Until, zone), whatNow(n.Moved)))
		case "fails":
			out = append(out, fmt.Sprintf("At %s the route %s failed: %s It is tried again at %s. %s", Clock(n.At, zone), n.Route, n.Words, Clock(*n.Until, zone), whatNow(n.Moved)))
		}
	}
	return out
}

// namedOperators is how many operators a sentence names.
const namedOperators = 3

func refused(list []store.Notice, zone *time.Location) string {
	names := make([]string, len(list))
	moved := 0
	for i, n := range list {
		names[i] = n.Operator
		if n.Moved {
			moved++
		}
	}
	who := say.SomeAnd(names, namedOperators)
	first := list[0]
	operators := "1 operator refuses"
	if len(list) > 1 {
		operators = fmt.Sprintf("%d operators refuse", len(list))
	}
	says := fmt.Sprintf("Since %s, %s us by the route %s: %s. The first said: “%s”. This says nothing about the addresses. ",
		Clock(first.At, zone), operators, first.Route, who, first.Words)
	switch moved {
	case len(list):
		return says + "Their addresses are asked by another route instead."
	case 0:
		return says + "There is no other route to ask them by; look at Outbound, then ask again."
	}
	return says + fmt.Sprintf("For %d of them the addresses are asked by another route instead.", moved)
}

func whatNow(moved bool) string {
	if moved {
		return "The work has moved to another route."
	}
	return "There is no other, so the run waits until then."
}

// noticeable is from which share of the concluded addresses on, in percent, a
// fault of outbound is told, and from how many addresses.
const (
	noticeable  = 5
	noticedFrom = 20
)

// notices tell what must not be taken for a fault of the addresses.
func notices(b contract.Run) []string {
	out := []string{}
	for _, c := range b.Causes {
		if c.Addresses < noticedFrom || c.Addresses*100 < b.Done*noticeable {
			continue
		}
		n, of := say.Number(c.Addresses), say.Number(b.Done)
		switch c.Cause {
		case finding.ExchangerBlocksUs:
			out = append(out, fmt.Sprintf("%s of the %s addresses concluded so far got no answer because their hosts refuse us: our address, name or sender. "+
				"This says nothing about the addresses. Look at Outbound, then ask again.", n, of))
		case finding.ExchangerUnreachable:
			out = append(out, fmt.Sprintf("No connection could be made for %s of the %s addresses concluded so far. "+
				"Test the routes under Outbound before you believe it.", n, of))
		case finding.DomainUnresolved:
			out = append(out, fmt.Sprintf("DNS failed for %s of the %s addresses concluded so far. Test the resolvers under Outbound.", n, of))
		}
	}
	return out
}

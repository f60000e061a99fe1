package odds

import (
	"cmp"
	"slices"
)

// Count is how many addresses of a domain one workspace has outcomes of, and at how many a message
// arrived.
type Count struct {
	Workspace          int64
	Domain, Operator   string
	Addresses, Arrived int
}

// A domain counts for other workspaces from so many addresses of so many of them on, and in steps
// of so many: the counts cannot be turned back into addresses, and one outcome more does not show.
const (
	sharedAddresses  = 20
	sharedWorkspaces = 3
	sharedStep       = 5
)

// Share returns what a workspace may learn of the outcomes of the others: counts of domains, without
// addresses and features, its own left out. prior is what the shipped table says of catch-all
// addresses.
func Share(counts []Count, own int64, prior float64) []Outcome {
	type sum struct {
		operator           string
		addresses, arrived int
		workspaces         map[int64]bool
	}
	sums := map[string]*sum{}
	for _, c := range counts {
		if c.Workspace == own || c.Addresses == 0 {
			continue
		}
		s := sums[c.Domain]
		if s == nil {
			s = &sum{operator: c.Operator, workspaces: map[int64]bool{}}
			sums[c.Domain] = s
		}
		s.addresses, s.arrived = s.addresses+c.Addresses, s.arrived+c.Arrived
		s.workspaces[c.Workspace] = true
	}
	var out []Outcome
	for domain, s := range sums {
		if s.addresses < sharedAddresses || len(s.workspaces) < sharedWorkspaces {
			continue
		}
		e := Evidence{Domain: domain, Operator: s.operator, Prior: prior}
		arrived := stepped(s.arrived)
		if bounced := stepped(s.addresses) - arrived; bounced > 0 {
			out = append(out, Outcome{Evidence: e, Times: float64(bounced)})
		}
		if arrived > 0 {
			out = append(out, Outcome{Evidence: e, Arrived: true, Times: float64(arrived)})
		}
	}
	slices.SortFunc(out, func(a, b Outcome) int {
		return cmp.Or(cmp.Compare(a.Domain, b.Domain), cmp.Compare(a.Times, b.Times))
	})
	return out
}

// stepped rounds down to whole steps.
func stepped(n int) int { return n / sharedStep * sharedStep }

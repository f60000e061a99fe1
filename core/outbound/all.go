package outbound

import (
	"context"
	"net/netip"
	"slices"
	"sync"
)

// All looks at all parts: resolvers, routes and blocklists side by side, then,
// with the addresses that the routes were seen with, the identities.
func (t *Tester) All(ctx context.Context, parts []Part) []Tested {
	out := make([]Tested, len(parts))
	var zones []string
	for i, p := range parts {
		out[i].Part = p
		if p.Kind == Blocklist {
			zones = append(zones, p.Name)
		}
	}
	each(out, func(p *Tested) {
		switch p.Kind {
		case Resolver:
			p.Outcome = t.TestResolver(ctx, p.Name)
		case Route:
			p.Outcome = t.TestRoute(ctx, p.Route)
			t.TestListed(ctx, &p.Outcome, zones)
		case Blocklist:
			p.Outcome = t.TestBlocklist(ctx, p.Name)
		}
	})
	seen := seenAs(out)
	each(out, func(p *Tested) {
		if p.Kind == Identity {
			p.Outcome = t.TestIdentity(ctx, p.Identity, seen)
		}
	})
	return out
}

// Seen is an address that mail hosts see us with, and the name that is said
// there in place of an identity's; "" for the identity's.
type Seen struct {
	Public netip.Addr
	Helo   string
}

// seenAs lists what mail hosts see of the routes that can be used.
func seenAs(parts []Tested) (seen []Seen) {
	for _, p := range parts {
		ip, err := netip.ParseAddr(p.Public)
		if s := (Seen{ip, p.Route.Helo}); err == nil && p.Grade() != Bad && !slices.Contains(seen, s) {
			seen = append(seen, s)
		}
	}
	return seen
}

// sideBySide bounds how many parts are looked at at once.
const sideBySide = 64

func each(parts []Tested, do func(*Tested)) {
	var wg sync.WaitGroup
	free := make(chan struct{}, sideBySide)
	for i := range parts {
		free <- struct{}{}
		wg.Go(func() {
			defer func() { <-free }()
			do(&parts[i])
		})
	}
	wg.Wait()
}

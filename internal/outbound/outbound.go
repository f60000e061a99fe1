// Package outbound is who asks, by which way out and with which DNS: routes, identities,
// resolvers and blocklists, their tests and rests, and the rules by which an operator is
// asked.
package outbound

import (
	"context"
	"fmt"
	"log/slog"
	"slices"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/event"
	core "varnet/core/outbound"
	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/route"
	"varnet/core/rule"
	"varnet/internal/dial"
	"varnet/internal/giveway"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// Config is what outbound works with.
type Config struct {
	Store    *store.Store
	Resolver *resolve.Resolver
	Prober   *probe.Prober
	// Secrets opens what is confidential of routes.
	Secrets *secret.Box
	// Reference are the domains whose mail hosts the tests of routes greet.
	Reference []string
	// Grammar is what is taken for an address.
	Grammar address.Grammar
	Log     *slog.Logger
	// Location is where this process goes out from: its direct route is that of its location; "":
	// the service's.
	Location string
	// Gate has the conversations of runs give way to what somebody waits for; nil: they do not.
	Gate *giveway.Gate
}

// Outbound sets outbound up, tests it, and says how an operator is asked.
type Outbound struct {
	Config
	cache cache
	// servers are the resolvers that count while none is named.
	servers []string
	// Happened records an event with a transaction; nil: nobody is told.
	Happened func(context.Context, *store.Store, pgx.Tx, event.Event) error
	// Elsewhere has a route tested by the workers of its location; nil: it cannot be.
	Elsewhere func(context.Context, route.Route) core.Outcome
}

// New returns outbound of a prober and a resolver. The resolver's servers are those
// that count while none is named.
func New(c Config) *Outbound { return &Outbound{Config: c, servers: c.Resolver.Servers()} }

// State is all parts that count now, with what came of their last tests.
type State struct {
	Parts     []Part
	Settings  store.OutboundSettings
	Readiness core.Readiness
}

// Part is a part that counts now. One with ID 0 was given at the start of
// the service and cannot be removed; it counts while there is none of its kind.
type Part struct {
	store.OutboundPart
	Secret bool // it has one
}

// State returns outbound as it is.
func (o *Outbound) State(ctx context.Context) (out State, err error) {
	if out.Settings, err = o.Store.OutboundSettings(ctx); err != nil {
		return out, err
	}
	if len(out.Settings.Reference) == 0 {
		out.Settings.Reference = o.Reference
	}
	kept, err := o.Store.OutboundParts(ctx)
	if err != nil {
		return out, err
	}
	outcomes, err := o.Store.Outcomes(ctx)
	if err != nil {
		return out, err
	}
	for _, p := range kept {
		out.Parts = append(out.Parts, Part{p, p.Sealed != nil})
	}
	for _, p := range o.given(kept) {
		for _, found := range outcomes {
			if found.Kind == p.Kind && found.Name == p.Name {
				p.Outcome, p.TestedAt = &found.Outcome, &found.At
			}
		}
		out.Parts = append(out.Parts, p)
	}
	slices.SortStableFunc(out.Parts, func(a, b Part) int {
		return slices.Index(core.Kinds(), a.Kind) - slices.Index(core.Kinds(), b.Kind)
	})
	var tested []core.Tested
	for _, p := range out.Parts {
		if p.Outcome != nil {
			tested = append(tested, core.Tested{Part: p.Part(), Outcome: *p.Outcome})
		}
	}
	out.Readiness = core.Judge(tested)
	return out, nil
}

// given lists the parts given at the start, of the kinds of which none is kept.
func (o *Outbound) given(kept []store.OutboundPart) (out []Part) {
	none := func(k core.Kind) bool {
		return !slices.ContainsFunc(kept, func(p store.OutboundPart) bool { return p.Kind == k })
	}
	add := func(p core.Part) { out = append(out, Part{OutboundPart: store.AsKept(p)}) }
	if none(core.Identity) {
		id := o.Prober.Way.Identity
		add(core.Part{Kind: core.Identity, Name: core.IdentityName(id), Identity: id})
	}
	if none(core.Resolver) {
		for _, s := range o.servers {
			add(core.Part{Kind: core.Resolver, Name: s})
		}
	}
	if none(core.Route) {
		add(core.Part{Kind: core.Route, Name: string(route.Direct), Route: route.Route{Kind: route.Direct}})
	}
	return out
}

// Tester returns what looks at parts.
func (o *Outbound) Tester() *core.Tester {
	return &core.Tester{Resolver: o.Resolver, Port: o.Prober.Port, AllowPrivate: o.Resolver.AllowPrivate, Identity: o.Prober.Way.Identity,
		Location: o.Location, Elsewhere: o.Elsewhere, Dialer: func(r route.Route) probe.Dialer { return dial.By(r, o.Resolver.AllowPrivate) }}
}

// Test looks at all parts that count now and records what came of it.
func (o *Outbound) Test(ctx context.Context) error {
	side, err := o.State(ctx)
	if err != nil {
		return err
	}
	t := o.Tester()
	t.Reference = side.Settings.Reference
	var parts []core.Part
	for _, p := range side.Parts {
		part := p.Part()
		if part.Kind == core.Route {
			if part.Route, err = o.unsealed(p.OutboundPart); err != nil {
				return fmt.Errorf("the route %s cannot be opened: %w", p.Name, err)
			}
		}
		if part.Kind == core.Identity {
			t.Identity = part.Identity // the one added last greets
		}
		parts = append(parts, part)
	}
	defer o.Forget()
	tested := t.All(ctx, parts)
	return o.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.SaveOutcomes(ctx, tested); err != nil {
			return err
		}
		return o.failures(ctx, s, tx, side.Parts, tested)
	})
}

// TestHere looks at a direct route of this process's location, and greets as the identity added last.
func (o *Outbound) TestHere(ctx context.Context, name string) (out core.Outcome, err error) {
	side, err := o.State(ctx)
	if err != nil {
		return out, err
	}
	t := o.Tester()
	t.Reference = side.Settings.Reference
	for _, p := range side.Parts {
		if part := p.Part(); part.Kind == core.Identity {
			t.Identity = part.Identity
		}
	}
	for _, p := range side.Parts {
		if part := p.Part(); part.Kind == core.Route && part.Name == name && part.Route.Location == o.Location {
			return t.TestRoute(ctx, part.Route), nil
		}
	}
	return out, store.ErrNotFound
}

// TestOwn looks at the direct route of this process's location and records what came of it.
func (o *Outbound) TestOwn(ctx context.Context) error {
	name := route.Route{Kind: route.Direct, Location: o.Location}.String()
	out, err := o.TestHere(ctx, name)
	if err != nil {
		return err
	}
	side, err := o.State(ctx)
	if err != nil {
		return err
	}
	var zones []string
	for _, p := range side.Parts {
		if p.Kind == core.Blocklist {
			zones = append(zones, p.Name)
		}
	}
	o.Tester().TestListed(ctx, &out, zones)
	defer o.Forget()
	return o.Store.SaveOutcomes(ctx, []core.Tested{{Part: core.Part{Kind: core.Route, Name: name}, Outcome: out}})
}

// Announce adds the direct route of this process's location, unless it is there. While there was no
// route, the service went out directly, and goes on doing so.
func (o *Outbound) Announce(ctx context.Context) error {
	if o.Location == "" {
		return nil
	}
	kept, err := o.Store.OutboundParts(ctx)
	if err != nil {
		return err
	}
	var add []core.Part
	none := true
	for _, p := range kept {
		if p.Kind != core.Route {
			continue
		}
		if none = false; p.Part().Route.Location == o.Location {
			return nil
		}
	}
	for _, r := range []route.Route{{Kind: route.Direct}, {Kind: route.Direct, Location: o.Location}} {
		if r.Location != "" || none {
			add = append(add, core.Part{Kind: core.Route, Name: r.String(), Route: r})
		}
	}
	return o.Add(ctx, add)
}

// failures tells of the routes and resolvers that passed their last test and failed this one.
func (o *Outbound) failures(ctx context.Context, s *store.Store, tx pgx.Tx, before []Part, tested []core.Tested) error {
	for _, t := range tested {
		if t.Outcome.Grade() != core.Bad || t.Kind != core.Route && t.Kind != core.Resolver || o.Happened == nil {
			continue
		}
		at := slices.IndexFunc(before, func(p Part) bool { return p.Kind == t.Kind && p.Name == t.Name })
		if at < 0 || before[at].Outcome == nil || before[at].Outcome.Grade() == core.Bad {
			continue
		}
		said := t.Outcome.Checks[slices.IndexFunc(t.Outcome.Checks, func(c core.Check) bool { return c.Grade == core.Bad })].Says
		if err := o.Happened(ctx, s, tx, event.Event{Code: event.OutboundFailed, Says: fmt.Sprintf("The %s %s failed its test: %s", t.Kind, t.Name, said),
			Data: event.Data{Route: t.Name, Words: said}}); err != nil {
			return err
		}
	}
	return nil
}

// Add adds parts, all or none.
func (o *Outbound) Add(ctx context.Context, parts []core.Part) error {
	defer o.Forget()
	return o.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		for _, p := range parts {
			var sealed []byte
			if p.Route.Secret != "" {
				sealed = o.Secrets.Seal(p.Route.Secret, purpose(p.Name))
			}
			if err := s.AddOutboundPart(ctx, p, sealed); err != nil {
				return err
			}
		}
		return nil
	})
}

// Remove removes parts.
func (o *Outbound) Remove(ctx context.Context, ids ...int64) (int64, error) {
	defer o.Forget()
	n, err := o.Store.RemoveOutboundParts(ctx, ids)
	if err == nil && n == 0 && len(ids) > 0 {
		err = store.ErrNotFound
	}
	return n, err
}

// RemoveFailed removes the parts of a kind that failed their last test.
func (o *Outbound) RemoveFailed(ctx context.Context, k core.Kind) (int64, error) {
	parts, err := o.Store.OutboundParts(ctx)
	if err != nil {
		return 0, err
	}
	var ids []int64
	for _, p := range parts {
		if p.Kind == k && p.Outcome != nil && p.Outcome.Grade() == core.Bad {
			ids = append(ids, p.ID)
		}
	}
	if len(ids) == 0 {
		return 0, nil
	}
	return o.Remove(ctx, ids...)
}

// Save changes what holds for all of it.
func (o *Outbound) Save(ctx context.Context, n store.OutboundSettings) error {
	defer o.Forget()
	return o.Store.SaveOutboundSettings(ctx, n)
}

// Tried is which rule fits an address, and how it would be asked.
type Tried struct {
	Subject  rule.Subject
	Rule     int // its place, -1: none
	Route    string
	Identity string
	Lanes    int
}

// Try says which rule matches an address, without asking its host.
func (o *Outbound) Try(ctx context.Context, typed string) (t Tried, err error) {
	a, err := o.Grammar.Parse(typed)
	if err != nil {
		return t, err
	}
	side, err := o.Setup(ctx)
	if err != nil {
		return t, err
	}
	d := o.Resolver.Lookup(ctx, a.Domain)
	t.Subject = rule.Subject{Address: a.Mailbox(), Domain: a.Domain, Operator: d.Operator()}
	t.Rule = rule.First(side.Settings.Rules, t.Subject)
	op, err := o.Operator(ctx, d.Operator())
	if err != nil {
		return t, err
	}
	st := side.Asking(op, t.Subject, side.at)
	t.Route, t.Identity, t.Lanes = side.Name(st.Way.Route), core.IdentityName(st.Way.Identity), side.Bounds(op.Name).Cap
	return t, nil
}

package work

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"varnet/core/probe"
	"varnet/core/route"
	"varnet/core/rule"
	"varnet/core/sending"
	"varnet/internal/dial"
	"varnet/internal/store"
)

// SendingSide is all parts that count now, with what came of their last tests.
type SendingSide struct {
	Parts    []SidePart
	Settings store.SendingSettings
	Standing sending.Standing
}

// SidePart is a part that counts now. One with ID 0 was told at the start of
// the service and cannot be removed; it counts while there is none of its kind.
type SidePart struct {
	store.SendingPart
	Secret bool // it has one
}

// SendingSide gives the sending side as it stands.
func (e *Engine) SendingSide(ctx context.Context) (out SendingSide, err error) {
	if out.Settings, err = e.Store.SendingSettings(ctx); err != nil {
		return out, err
	}
	if len(out.Settings.Reference) == 0 {
		out.Settings.Reference = e.Reference
	}
	kept, err := e.Store.SendingParts(ctx)
	if err != nil {
		return out, err
	}
	outcomes, err := e.Store.Outcomes(ctx)
	if err != nil {
		return out, err
	}
	for _, p := range kept {
		out.Parts = append(out.Parts, SidePart{p, p.Sealed != nil})
	}
	for _, p := range e.told(kept) {
		for _, o := range outcomes {
			if o.Kind == p.Kind && o.Name == p.Name {
				p.Outcome, p.TestedAt = &o.Outcome, &o.At
			}
		}
		out.Parts = append(out.Parts, p)
	}
	slices.SortStableFunc(out.Parts, func(a, b SidePart) int {
		return slices.Index(sending.Kinds(), a.Kind) - slices.Index(sending.Kinds(), b.Kind)
	})
	var tested []sending.Tested
	for _, p := range out.Parts {
		if p.Outcome != nil {
			tested = append(tested, sending.Tested{Part: p.Part(), Outcome: *p.Outcome})
		}
	}
	out.Standing = sending.Judge(tested)
	return out, nil
}

// told lists the parts told at the start, of the kinds of which none is kept.
func (e *Engine) told(kept []store.SendingPart) (out []SidePart) {
	none := func(k sending.Kind) bool {
		return !slices.ContainsFunc(kept, func(p store.SendingPart) bool { return p.Kind == k })
	}
	add := func(p sending.Part) { out = append(out, SidePart{SendingPart: store.AsKept(p)}) }
	if none(sending.Identity) {
		id := e.Prober.Way.Identity
		add(sending.Part{Kind: sending.Identity, Name: sending.IdentityName(id), Identity: id})
	}
	if none(sending.Resolver) {
		for _, s := range e.servers {
			add(sending.Part{Kind: sending.Resolver, Name: s})
		}
	}
	if none(sending.Route) {
		add(sending.Part{Kind: sending.Route, Name: string(route.Direct), Route: route.Route{Kind: route.Direct}})
	}
	return out
}

// TestSending looks at all parts that count now and records what came of it.
func (e *Engine) TestSending(ctx context.Context) error {
	side, err := e.SendingSide(ctx)
	if err != nil {
		return err
	}
	t := sending.Tester{Resolver: e.Resolver, Port: e.Prober.Port, AllowPrivate: e.Resolver.AllowPrivate, Reference: side.Settings.Reference,
		Identity: e.Prober.Way.Identity,
		Dialer:   func(r route.Route) probe.Dialer { return dial.By(r, e.Resolver.AllowPrivate) }}
	var parts []sending.Part
	for _, p := range side.Parts {
		part := p.Part()
		if part.Kind == sending.Route {
			if part.Route, err = e.unsealed(p.SendingPart); err != nil {
				return fmt.Errorf("the route %s cannot be opened: %w", p.Name, err)
			}
		}
		if part.Kind == sending.Identity {
			t.Identity = part.Identity // the one added last greets
		}
		parts = append(parts, part)
	}
	defer e.forgetSide()
	return e.Store.SaveOutcomes(ctx, t.All(ctx, parts))
}

// AddParts adds parts, all or none.
func (e *Engine) AddParts(ctx context.Context, parts []sending.Part) error {
	defer e.forgetSide()
	return e.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		for _, p := range parts {
			var sealed []byte
			if p.Route.Secret != "" {
				sealed = e.Secrets.Seal(p.Route.Secret, purpose(p.Name))
			}
			if err := s.AddSendingPart(ctx, p, sealed); err != nil {
				return err
			}
		}
		return nil
	})
}

// RemoveParts removes parts.
func (e *Engine) RemoveParts(ctx context.Context, ids ...int64) (int64, error) {
	defer e.forgetSide()
	n, err := e.Store.RemoveSendingParts(ctx, ids)
	if err == nil && n == 0 && len(ids) > 0 {
		err = store.ErrNotFound
	}
	return n, err
}

// RemoveFailed removes the parts of a kind that failed their last test.
func (e *Engine) RemoveFailed(ctx context.Context, k sending.Kind) (int64, error) {
	parts, err := e.Store.SendingParts(ctx)
	if err != nil {
		return 0, err
	}
	var ids []int64
	for _, p := range parts {
		if p.Kind == k && p.Outcome != nil && p.Outcome.Grade() == sending.Bad {
			ids = append(ids, p.ID)
		}
	}
	if len(ids) == 0 {
		return 0, nil
	}
	return e.RemoveParts(ctx, ids...)
}

// SaveSending changes what holds for the whole sending side.
func (e *Engine) SaveSending(ctx context.Context, n store.SendingSettings) error {
	defer e.forgetSide()
	return e.Store.SaveSendingSettings(ctx, n)
}

// Tried is which rule fits an address, and how it would be asked.
type Tried struct {
	Subject  rule.Subject
	Rule     int // its place, -1: none
	Route    string
	Identity string
	Lanes    int
}

// TryRules tells which rule fits an address, without asking its host.
func (e *Engine) TryRules(ctx context.Context, typed string) (t Tried, err error) {
	a, err := e.Grammar.Parse(typed)
	if err != nil {
		return t, err
	}
	side, err := e.side(ctx)
	if err != nil {
		return t, err
	}
	d := e.Resolver.Lookup(ctx, a.Domain)
	t.Subject = rule.Subject{Address: a.Mailbox(), Domain: a.Domain, Operator: d.Operator()}
	t.Rule = rule.First(side.settings.Rules, t.Subject)
	op, err := e.operator(ctx, d.Operator())
	if err != nil {
		return t, err
	}
	st := side.stand(op, t.Subject, side.at)
	t.Route, t.Identity, t.Lanes = side.name(st.way.Route), sending.IdentityName(st.way.Identity), side.bounds(op.Name).Cap
	return t, nil
}

// operator gives what is known of one operator.
func (e *Engine) operator(ctx context.Context, name string) (store.Operator, error) {
	known, err := e.Store.Operators(ctx, []string{name})
	op := known[name]
	op.Name = name
	return op, err
}

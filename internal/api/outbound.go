package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	core "varnet/core/outbound"
	"varnet/core/pace"
	"varnet/core/rule"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/outbound"
	"varnet/internal/store"
	"varnet/internal/summary"
)

func (a *API) registerOutbound(h huma.API) {
	huma.Register(h, operation("get-readiness", http.MethodGet, "/outbound/readiness", "Whether outbound is ready, in a sentence"), a.readiness)
	huma.Register(h, operation("get-outbound", http.MethodGet, "/outbound", "Outbound: resolvers, routes, identities, blocklists, rules, pace"), a.outbound)
	huma.Register(h, operation("test-outbound", http.MethodPost, "/outbound/test", "Test all of outbound; it takes some seconds"), a.testOutbound)
	huma.Register(h, operation("add-parts", http.MethodPost, "/outbound/parts", "Add parts, one per line, all of them or none, and test the whole"), a.addParts)
	huma.Register(h, operation("remove-part", http.MethodDelete, "/outbound/parts/{id}", "Remove a part"), a.removePart)
	huma.Register(h, operation("remove-failed", http.MethodPost, "/outbound/parts/remove-failed", "Remove all parts of a kind that failed their last test"), a.removeFailed)
	huma.Register(h, operation("set-outbound", http.MethodPut, "/outbound/settings", "Change what holds for all of outbound"), a.setOutbound)
	huma.Register(h, operation("set-rules", http.MethodPut, "/outbound/rules", "Replace the rules"), a.setRules)
	huma.Register(h, operation("get-own-rules", http.MethodGet, "/rules", "The rules of the workspace about whom to ask, and how far"), a.ownRules)
	huma.Register(h, operation("set-own-rules", http.MethodPut, "/rules", "Replace the rules of the workspace"), a.setOwnRules)
	huma.Register(h, operation("try-rules", http.MethodPost, "/outbound/rules/try", "Which rule matches an address, and how it would be asked about"), a.tryRules)
	huma.Register(h, operation("get-operators", http.MethodGet, "/outbound/operators", "What pace has learnt about operators, those asked last first"), a.operators)
	huma.Register(h, operation("forget-operator", http.MethodDelete, "/outbound/operators/{name}", "Forget what was learnt about an operator"), a.forgetOperator)
}

func (a *API) readiness(ctx context.Context, _ *struct{}) (*struct{ Body contract.Readiness }, error) {
	side, err := a.engine.Outbound.State(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Readiness }{contract.Readiness(side.Readiness)}, nil
}

type outboundOutput struct{ Body contract.Outbound }

func (a *API) outbound(ctx context.Context, _ *struct{}) (*outboundOutput, error) {
	side, err := a.engine.Outbound.State(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	refusals, err := a.store.Refusals(ctx, time.Now().Add(-24*time.Hour), 50)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := contract.Outbound{Readiness: contract.Readiness(side.Readiness), Parts: []contract.OutboundPart{}, Reference: side.Settings.Reference,
		Pace: contract.PaceSettings{Cap: side.Settings.Cap, Note: paceNote}, Health: contract.Each(a.engine.Resolver.Health(), contract.HealthOf), Refusals: []contract.Refusal{}}
	for _, p := range side.Parts {
		b.Parts = append(b.Parts, partBody(ctx, p))
		if t := p.TestedAt; t != nil && (b.TestedAt == nil || t.Before(*b.TestedAt)) {
			b.TestedAt = t
		}
	}
	b.Rules = saidRules(side.Settings.Rules)
	for _, r := range refusals {
		b.Refusals = append(b.Refusals, contract.Refusal{Operator: r.Operator, Route: routeName(side, r.RouteID), At: r.BlockedAt, Words: r.Words})
	}
	return &outboundOutput{b}, nil
}

var paceNote = fmt.Sprintf("An operator starts with %d sessions and earns more while it does not complain. Many hosts allow 10 from one "+
	"address and fewer from strangers: %d is polite, more than 8 seldom is.", pace.Start().Lanes, pace.DefaultCap)

func partBody(ctx context.Context, p outbound.Part) contract.OutboundPart {
	b := contract.OutboundPart{ID: p.ID, Kind: p.Kind, Name: p.Name, Secret: p.Secret, Checks: []contract.Check{}}
	if p.Outcome != nil {
		b.Grade, b.Checks, b.TookMS, b.Public = p.Outcome.Grade(), contract.Checks(p.Outcome.Checks), p.Outcome.TookMS, p.Outcome.Public
	}
	if until := p.Resting(); until.After(time.Now()) {
		why := "too many hosts refuse it"
		if p.RestKind == "fails" {
			why = "it failed"
		}
		b.Rests = fmt.Sprintf("Left alone until %s, for %s: %s", summary.Clock(until, zone(ctx)), why, p.RestWhy)
	}
	return b
}

func routeName(side outbound.State, id int64) string {
	for _, p := range side.Parts {
		if p.Kind == core.Route && p.ID == id {
			return p.Name
		}
	}
	return "a route that was removed"
}

func (a *API) testOutbound(ctx context.Context, in *struct{}) (*outboundOutput, error) {
	if err := a.engine.Outbound.Test(ctx); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.outbound(ctx, in)
}

func (a *API) addParts(ctx context.Context, in *struct{ Body contract.NewParts }) (*outboundOutput, error) {
	parts, err := core.ParseLines(in.Body.Kind, in.Body.Lines)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(say.Sentence(err.Error()))
	}
	if err := a.engine.Outbound.Add(ctx, parts); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.testOutbound(ctx, nil)
}

func (a *API) removePart(ctx context.Context, in *ByID) (*struct{}, error) {
	if _, err := a.engine.Outbound.Remove(ctx, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

func (a *API) removeFailed(ctx context.Context, in *struct {
	Kind core.Kind `query:"kind" enum:"identity,resolver,route,blocklist" required:"true" doc:"What is removed."`
}) (*struct{ Body contract.Removed }, error) {
	n, err := a.engine.Outbound.RemoveFailed(ctx, in.Kind)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Removed }{contract.Removed{Removed: n}}, nil
}

func (a *API) setOutbound(ctx context.Context, in *struct{ Body contract.OutboundSettings }) (*outboundOutput, error) {
	s, err := a.store.OutboundSettings(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if in.Body.Cap > 0 {
		s.Cap = in.Body.Cap
	}
	if len(in.Body.Reference) > 0 {
		s.Reference = in.Body.Reference
	}
	if err := a.engine.Outbound.Save(ctx, s); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.outbound(ctx, nil)
}

// readRules reads rules and holds each against a check.
func readRules(in contract.Rules, check func(*rule.Rule) error) ([]rule.Rule, error) {
	rules := contract.Each(in.Rules, func(r contract.Rule) rule.Rule { return rule.Rule(r) })
	for i := range rules {
		if err := check(&rules[i]); err != nil {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("Rule %d: %v.", i+1, err))
		}
	}
	return rules, nil
}

func saidRules(rules []rule.Rule) []contract.SaidRule {
	return contract.Each(rules, func(r rule.Rule) contract.SaidRule {
		return contract.SaidRule{Rule: contract.Rule(r), Says: r.String()}
	})
}

func (a *API) ownRules(ctx context.Context, _ *struct{}) (*pageOutput[contract.SaidRule], error) {
	rules, err := a.store.OwnRules(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(saidRules(rules)), nil
}

func (a *API) setOwnRules(ctx context.Context, in *struct{ Body contract.Rules }) (*pageOutput[contract.SaidRule], error) {
	rules, err := readRules(in.Body, (*rule.Rule).CheckOwn)
	if err != nil {
		return nil, err
	}
	if err := a.store.SetOwnRules(ctx, workspace(ctx).ID, rules); err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(saidRules(rules)), nil
}

func (a *API) setRules(ctx context.Context, in *struct{ Body contract.Rules }) (*outboundOutput, error) {
	rules, err := readRules(in.Body, (*rule.Rule).Check)
	if err != nil {
		return nil, err
	}
	if err := a.checkNames(ctx, rules); err != nil {
		return nil, err
	}
	s, err := a.store.OutboundSettings(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	s.Rules = rules
	if err := a.engine.Outbound.Save(ctx, s); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.outbound(ctx, nil)
}

// checkNames holds the routes and identities that rules name against those
// there are.
func (a *API) checkNames(ctx context.Context, rules []rule.Rule) error {
	side, err := a.engine.Outbound.State(ctx)
	if err != nil {
		return a.failed(ctx, err)
	}
	known := map[core.Kind]map[string]bool{core.Route: {"": true}, core.Identity: {"": true}}
	for _, p := range side.Parts {
		if m, ok := known[p.Kind]; ok {
			m[p.Name] = true
		}
	}
	for i, r := range rules {
		switch {
		case !known[core.Route][r.Route]:
			return huma.Error422UnprocessableEntity(fmt.Sprintf("Rule %d: there is no route %q.", i+1, r.Route))
		case !known[core.Identity][r.Identity]:
			return huma.Error422UnprocessableEntity(fmt.Sprintf("Rule %d: there is no identity %q.", i+1, r.Identity))
		}
	}
	return nil
}

func (a *API) tryRules(ctx context.Context, in *struct{ Body contract.OneAddress }) (*struct{ Body contract.Tried }, error) {
	t, err := a.engine.Outbound.Try(ctx, in.Body.Address)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	s, err := a.store.OutboundSettings(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := contract.Tried{Rule: t.Rule + 1, Operator: t.Subject.Operator, Route: t.Route, Identity: t.Identity, Lanes: t.Lanes}
	run := "whose mail hosts are run by " + b.Operator
	if b.Operator == "" {
		run = "whose mail hosts are not known"
	}
	b.Says = fmt.Sprintf("No rule matches %s, %s.", t.Subject.Address, run)
	if 0 <= t.Rule && t.Rule < len(s.Rules) {
		b.Says = fmt.Sprintf("Rule %d matches %s, %s: %s", b.Rule, t.Subject.Address, run, &s.Rules[t.Rule])
	}
	b.Says += fmt.Sprintf(" It would go by the route %s, as %s, with at most %d at a time.", b.Route, b.Identity, b.Lanes)
	return &struct{ Body contract.Tried }{b}, nil
}

func (a *API) operators(ctx context.Context, in *struct {
	Search string `query:"search" maxLength:"200" doc:"Only operators with this text in their name."`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"100" doc:"How many at most."`
}) (*pageOutput[contract.OperatorPace], error) {
	list, err := a.store.OperatorRoutes(ctx, in.Search, in.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	side, err := a.engine.Outbound.State(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := []contract.OperatorPace{}
	for _, o := range list {
		out = append(out, contract.OperatorPace{Operator: o.Operator, Route: routeName(side, o.RouteID), Lanes: min(o.Pace.Lanes, side.Settings.Cap),
			AskedAt: o.AskedAt, Says: paceSays(ctx, o, side.Settings.Cap, time.Now())})
	}
	return whole(out), nil
}

// paceSays says how an operator is treated now.
func paceSays(ctx context.Context, o store.OperatorRoute, most int, now time.Time) string {
	says := fmt.Sprintf("It gets %d of at most %d sessions at a time.", min(o.Pace.Lanes, most), most)
	if o.Pace.Complaints > 0 {
		says += fmt.Sprintf(" It complained %d times in a row that we ask too much or too fast.", o.Pace.Complaints)
	}
	if o.Pace.Resting(now) {
		says += " It is left alone until " + summary.Clock(o.Pace.RestUntil, zone(ctx)) + "."
	}
	if until := o.Blocked(); until.After(now) {
		says += fmt.Sprintf(" It refuses us by this route (“%s”), which is not used for it until %s where there is another.", o.Words, summary.Clock(until, zone(ctx)))
	}
	return says
}

func (a *API) forgetOperator(ctx context.Context, in *struct {
	Name string `path:"name" doc:"The operator."`
}) (*struct{}, error) {
	if err := a.store.ForgetPace(ctx, in.Name); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

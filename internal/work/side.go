package work

import (
	"context"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"varnet/core/pace"
	"varnet/core/probe"
	"varnet/core/route"
	"varnet/core/rule"
	"varnet/core/sending"
	"varnet/core/smtp"
	"varnet/internal/dial"
	"varnet/internal/store"
)

// side is the sending side as it is set up now. It never changes; Engine.side
// gives the present one.
type side struct {
	at         time.Time
	settings   store.SendingSettings
	ways       []way
	identities []smtp.Identity
}

// way is a route that may be used.
type way struct {
	probe.Way
	helo      string // said in place of the identity's name
	restUntil time.Time
	rests     int
}

// sideFresh is how long the sending side is taken to be as it was read.
const sideFresh = time.Second

type sideCache struct {
	mu  sync.Mutex
	now *side
	// stale is apart from the lock, which is held while the database is waited
	// for: within a transaction nobody may wait for that.
	stale atomic.Bool
}

// side reads the sending side, at most once a second. It is not for use within a
// transaction: who holds a connection and waits for another may wait for ever.
func (e *Engine) side(ctx context.Context) (*side, error) {
	c := &e.sides
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.now != nil && time.Since(c.now.at) < sideFresh && !c.stale.Swap(false) {
		return c.now, nil
	}
	next, err := e.readSide(ctx)
	if err == nil {
		c.now = next
	}
	return next, err
}

// forgetSide makes the next look at the sending side a fresh one.
func (e *Engine) forgetSide() { e.sides.stale.Store(true) }

func (e *Engine) readSide(ctx context.Context) (*side, error) {
	s := &side{at: time.Now()}
	var err error
	if s.settings, err = e.Store.SendingSettings(ctx); err != nil {
		return nil, err
	}
	parts, err := e.Store.SendingParts(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range usable(parts, sending.Identity) {
		s.identities = append(s.identities, p.Part().Identity)
	}
	if len(s.identities) == 0 {
		s.identities = []smtp.Identity{e.Prober.Way.Identity}
	}
	for _, p := range usable(parts, sending.Route) {
		r, err := e.unsealed(p)
		if err != nil {
			e.Log.Error("a route cannot be used", "route", p.Name, "err", err)
			continue
		}
		s.ways = append(s.ways, way{probe.Way{Route: p.ID, Name: p.Name, Dialer: dial.By(r, e.Resolver.AllowPrivate)}, r.Helo, p.Resting(), p.Rests})
	}
	if len(s.ways) == 0 {
		s.ways = []way{{Way: e.Prober.Way}}
	}
	var servers []string
	for _, p := range usable(parts, sending.Resolver) {
		servers = append(servers, p.Name)
	}
	if len(servers) == 0 {
		servers = e.servers
	}
	e.Resolver.Use(servers)
	if e.Resolver.Know(s.settings.Reference); len(s.settings.Reference) == 0 {
		e.Resolver.Know(e.Reference)
	}
	return s, nil
}

// usable lists the parts of a kind that did not fail their last test; all of
// them when all did, for then one of them must do.
func usable(parts []store.SendingPart, k sending.Kind) (out []store.SendingPart) {
	var failed []store.SendingPart
	for _, p := range parts {
		switch {
		case p.Kind != k:
		case p.Outcome != nil && p.Outcome.Grade() == sending.Bad:
			failed = append(failed, p)
		default:
			out = append(out, p)
		}
	}
	if len(out) == 0 {
		return failed
	}
	return out
}

// unsealed gives a route with its secret.
func (e *Engine) unsealed(p store.SendingPart) (r route.Route, err error) {
	r = p.Part().Route
	if p.Sealed != nil {
		r.Secret, err = e.Secrets.Open(p.Sealed, purpose(p.Name))
	}
	return r, err
}

// purpose binds a sealed secret to its route.
func purpose(name string) string { return "route " + name }

// stand is how somebody is asked now.
type stand struct {
	way probe.Way
	// until is when they may be asked; zero for now.
	until time.Time
}

// stand settles by which route and as whom the subject's operator is asked, and
// when: after the rest of the operator or route, and in the hours of a rule.
func (s *side) stand(op store.Operator, subject rule.Subject, now time.Time) stand {
	r := s.rule(subject)
	at, until := s.choose(op, r, now)
	w := s.ways[at].Way
	w.Identity = s.identity(op.Name, r)
	if helo := s.ways[at].helo; helo != "" && r.Identity == "" {
		w.Identity.Name = helo
	}
	for _, t := range []time.Time{op.By[w.Route].Pace.RestUntil, opens(r, now)} {
		if t.After(now) && t.After(until) {
			until = t
		}
	}
	return stand{w, until}
}

func (s *side) rule(subject rule.Subject) rule.Rule {
	if i := rule.First(s.settings.Rules, subject); i >= 0 {
		return s.settings.Rules[i]
	}
	return rule.Rule{}
}

// regardsAddresses tells whether addresses of one domain may fall under different
// rules.
func (s *side) regardsAddresses() bool {
	return slices.ContainsFunc(s.settings.Rules, func(r rule.Rule) bool { return r.Of == rule.OfAddress })
}

func opens(r rule.Rule, now time.Time) time.Time {
	t, _ := r.Opens(now) // the rule was checked when it was made
	return t
}

// choose gives the place of the operator's way, and until when it rests.
func (s *side) choose(op store.Operator, r rule.Rule, now time.Time) (int, time.Time) {
	from := make([]route.Candidate, len(s.ways))
	for i, w := range s.ways {
		if r.Route != "" && r.Route == w.Name {
			return i, w.restUntil
		}
		from[i] = route.Candidate{ID: w.Route, RestUntil: w.restUntil, BlockedUntil: op.By[w.Route].Blocked()}
	}
	return route.Choose(op.Name, from, now)
}

// identity is the one an operator is asked as: always the same of the pool, as
// greylisting hosts want it.
func (s *side) identity(operator string, r rule.Rule) smtp.Identity {
	best := s.identities[0]
	for _, id := range s.identities {
		name := sending.IdentityName(id)
		if r.Identity != "" && r.Identity == name {
			return id
		}
		if route.Weight(operator+name, 0) > route.Weight(operator+sending.IdentityName(best), 0) {
			best = id
		}
	}
	return best
}

// bounds are how far the operator's pace may go by any route.
func (s *side) bounds(operator string) pace.Bounds {
	b := pace.Bounds{Cap: s.settings.Cap}
	r := s.rule(rule.Subject{Operator: operator})
	if r.Lanes > 0 {
		b.Cap = r.Lanes
	}
	b.Rest = time.Duration(r.Rest) * time.Second
	return b
}

// lanes is how many lanes a lane key has now, and until when it rests.
func (s *side) lanes(key string, known map[string]store.Operator) (n int, until time.Time) {
	if pace.IsShared(key) || pace.IsPatient(key) || key == unresolvedKey {
		return 1, time.Time{}
	}
	op := known[key]
	op.Name = key
	st := s.stand(op, rule.Subject{Operator: key}, time.Now())
	p := pace.Start()
	if by, met := op.By[st.way.Route]; met {
		p = by.Pace
	}
	return max(1, min(p.Lanes, s.bounds(key).Cap)), st.until
}

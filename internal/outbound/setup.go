package outbound

import (
	"context"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	core "varnet/core/outbound"
	"varnet/core/pace"
	"varnet/core/probe"
	"varnet/core/route"
	"varnet/core/rule"
	"varnet/core/smtp"
	"varnet/internal/dial"
	"varnet/internal/store"
)

// Setup is outbound as it is set up at a moment: routes, identities, rules. It
// never changes; Outbound.Setup returns the present one.
type Setup struct {
	at         time.Time
	Settings   store.OutboundSettings
	ways       []way
	identities []smtp.Identity
	own        []rule.Rule // of a workspace
	here       string      // the location of this process
}

// For is outbound as it is for a workspace with rules of its own: of two that fit, the one
// that asks less far counts.
func (s *Setup) For(own []rule.Rule) *Setup {
	theirs := *s
	theirs.own = own
	return &theirs
}

// way is a route that may be used.
type way struct {
	probe.Way
	helo      string // said in place of the identity's name
	restUntil time.Time
	rests     int
	location  string // of the workers that go out by it; "": the service's
}

// fresh is how long outbound is taken to be as it was read.
const fresh = time.Second

type cache struct {
	mu  sync.Mutex
	now *Setup
	// stale is apart from the lock, which is held while the database is waited
	// for: within a transaction nobody may wait for that.
	stale atomic.Bool
	// operators are those that single checks have asked about since now was read.
	operators map[string]store.Operator
}

// Setup reads outbound, at most once a second. It is not for use within a
// transaction: who holds a connection and waits for another may wait for ever.
func (o *Outbound) Setup(ctx context.Context) (*Setup, error) {
	c := &o.cache
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.now != nil && time.Since(c.now.at) < fresh && !c.stale.Swap(false) {
		return c.now, nil
	}
	next, err := o.read(ctx)
	if err == nil {
		c.now, c.operators = next, map[string]store.Operator{}
	}
	return next, err
}

// Operator returns what is known of one operator, which is read as often as Setup. Nobody changes what it
// returns.
func (o *Outbound) Operator(ctx context.Context, name string) (store.Operator, error) {
	if _, err := o.Setup(ctx); err != nil {
		return store.Operator{}, err
	}
	c := &o.cache
	c.mu.Lock()
	op, ok := c.operators[name]
	c.mu.Unlock()
	if ok {
		return op, nil
	}
	known, err := o.Store.Operators(ctx, []string{name})
	if err != nil {
		return op, err
	}
	op = known[name]
	op.Name = name
	c.mu.Lock()
	defer c.mu.Unlock()
	c.operators[name] = op
	return op, nil
}

// Forget makes the next look at outbound a fresh one.
func (o *Outbound) Forget() { o.cache.stale.Store(true) }

func (o *Outbound) read(ctx context.Context) (*Setup, error) {
	s := &Setup{at: time.Now(), here: o.Location}
	var err error
	if s.Settings, err = o.Store.OutboundSettings(ctx); err != nil {
		return nil, err
	}
	parts, err := o.Store.OutboundParts(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range usable(parts, core.Identity) {
		s.identities = append(s.identities, p.Part().Identity)
	}
	if len(s.identities) == 0 {
		s.identities = []smtp.Identity{o.Prober.Way.Identity}
	}
	for _, p := range usable(parts, core.Route) {
		r, err := o.unsealed(p)
		if err != nil {
			o.Log.Error("a route cannot be used", "route", p.Name, "err", err)
			continue
		}
		s.ways = append(s.ways, way{probe.Way{Route: p.ID, Name: p.Name, Dialer: o.Gate.Dialer(dial.By(r, o.Resolver.AllowPrivate))}, r.Helo, p.Resting(), p.Rests, r.Location})
	}
	if s.ways, err = o.attended(ctx, s.ways); err != nil {
		return nil, err
	}
	if len(s.ways) == 0 {
		direct := o.Prober.Way
		direct.Dialer = o.Gate.Dialer(direct.Dialer)
		s.ways = []way{{Way: direct}}
	}
	var servers []string
	for _, p := range usable(parts, core.Resolver) {
		servers = append(servers, p.Name)
	}
	if len(servers) == 0 {
		servers = o.servers
	}
	o.Resolver.Use(servers)
	if o.Resolver.Know(s.Settings.Reference); len(s.Settings.Reference) == 0 {
		o.Resolver.Know(o.Reference)
	}
	return s, nil
}

// unattendedRest is how long a way waits whose workers are not there, where there is no other.
const unattendedRest = 10 * time.Second

// attended leaves out the ways of locations at which no worker is at work; where only such are left,
// they wait.
func (o *Outbound) attended(ctx context.Context, ways []way) (out []way, err error) {
	if !slices.ContainsFunc(ways, func(w way) bool { return w.location != "" }) {
		return ways, nil
	}
	there, err := o.Store.Locations(ctx, Silence)
	if err != nil {
		return nil, err
	}
	for _, w := range ways {
		if w.location == "" || slices.Contains(there, w.location) {
			out = append(out, w)
		}
	}
	if len(out) > 0 {
		return out, nil
	}
	for i := range ways {
		if until := time.Now().Add(unattendedRest); ways[i].restUntil.Before(until) {
			ways[i].restUntil = until
		}
	}
	return ways, nil
}

// Unattended are the locations of routes at which no worker is at work.
func (o *Outbound) Unattended(ctx context.Context) (out []string, err error) {
	parts, err := o.Store.OutboundParts(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range parts {
		if l := p.Part().Route.Location; l != "" {
			out = append(out, l)
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	there, err := o.Store.Locations(ctx, Silence)
	return slices.DeleteFunc(out, func(l string) bool { return slices.Contains(there, l) }), err
}

// Silence is after how long without a heartbeat a worker is considered lost.
const Silence = 12 * time.Second

// usable lists the parts of a kind that did not fail their last test; all of
// them when all did, for then one of them must do.
func usable(parts []store.OutboundPart, k core.Kind) (out []store.OutboundPart) {
	var failed []store.OutboundPart
	for _, p := range parts {
		switch {
		case p.Kind != k:
		case p.Outcome != nil && p.Outcome.Grade() == core.Bad:
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

// unsealed returns a route with its secret.
func (o *Outbound) unsealed(p store.OutboundPart) (r route.Route, err error) {
	r = p.Part().Route
	if p.Sealed != nil {
		r.Secret, err = o.Secrets.Open(p.Sealed, purpose(p.Name))
	}
	return r, err
}

// Reseal seals the secrets of routes with the present secret, and returns how many there are.
func (o *Outbound) Reseal(ctx context.Context) (int, error) {
	return o.Store.Reseal(ctx, store.RouteSecrets, func(name string, sealed []byte) ([]byte, error) { return o.Secrets.Reseal(sealed, purpose(name)) })
}

// purpose binds a sealed secret to its route.
func purpose(name string) string { return "route " + name }

// Asking is how somebody is asked now.
type Asking struct {
	Way probe.Way
	// Location is where the workers are who ask; "": at the service.
	Location string
	// Until is when they may be asked; zero for now.
	Until time.Time
}

// Asking settles by which route and as whom the subject's operator is asked, and
// when: after the rest of the operator or route, and in the hours of a rule.
func (s *Setup) Asking(op store.Operator, subject rule.Subject, now time.Time) Asking {
	r := s.Rule(subject)
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
	return Asking{w, s.ways[at].location, until}
}

// AskingHere is Asking by those ways alone that this process may use; ok is false where there is none.
func (s *Setup) AskingHere(op store.Operator, subject rule.Subject, now time.Time) (a Asking, ok bool) {
	theirs := *s
	theirs.ways = slices.DeleteFunc(slices.Clone(s.ways), func(w way) bool { return w.location != s.here })
	if len(theirs.ways) == 0 {
		return a, false
	}
	return theirs.Asking(op, subject, now), true
}

// Here reports whether the workers of a location are this process.
func (s *Setup) Here(location string) bool { return location == s.here }

// Rule returns the rule that a subject falls under; the empty one where none fits.
func (s *Setup) Rule(subject rule.Subject) (r rule.Rule) {
	if i := rule.First(s.Settings.Rules, subject); i >= 0 {
		r = s.Settings.Rules[i]
	}
	if i := rule.First(s.own, subject); i >= 0 {
		r.Depth = rule.Shallower(r.Depth, s.own[i].Depth)
	}
	return r
}

// RegardsAddresses reports whether addresses of one domain may fall under different
// rules.
func (s *Setup) RegardsAddresses() bool {
	return slices.ContainsFunc(s.Settings.Rules, func(r rule.Rule) bool { return r.Of == rule.OfAddress })
}

// Opens is when an operator may be contacted by the hours of its rule; zero for now.
func (s *Setup) Opens(operator string, now time.Time) time.Time {
	return opens(s.Rule(rule.Subject{Operator: operator}), now)
}

func opens(r rule.Rule, now time.Time) time.Time {
	t, _ := r.Opens(now) // the rule was checked when it was made
	return t
}

// choose returns the place of the operator's way, and until when it rests.
func (s *Setup) choose(op store.Operator, r rule.Rule, now time.Time) (int, time.Time) {
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
func (s *Setup) identity(operator string, r rule.Rule) smtp.Identity {
	best := s.identities[0]
	for _, id := range s.identities {
		name := core.IdentityName(id)
		if r.Identity != "" && r.Identity == name {
			return id
		}
		if route.Weight(operator+name, 0) > route.Weight(operator+core.IdentityName(best), 0) {
			best = id
		}
	}
	return best
}

// Bounds are how far the operator's pace may go by any route.
func (s *Setup) Bounds(operator string) pace.Bounds {
	b := pace.Bounds{Cap: s.Settings.Cap}
	r := s.Rule(rule.Subject{Operator: operator})
	if r.Lanes > 0 {
		b.Cap = r.Lanes
	}
	b.Rest = time.Duration(r.Rest) * time.Second
	return b
}

// Lanes are the lanes that a lane key has now.
type Lanes struct {
	N int
	// Until is until when it rests; zero: it does not.
	Until time.Time
	// Location is where the workers are who work in them.
	Location string
}

// Lanes returns the lanes of a lane key.
func (s *Setup) Lanes(key string, known map[string]store.Operator) Lanes {
	switch {
	case key == pace.Unresolved:
		return Lanes{N: 1}
	case pace.IsShared(key):
		return Lanes{N: 1, Location: s.attendedAt(pace.LocationOf(key))}
	}
	operator := pace.PlainKey(key)
	op := known[operator]
	op.Name = operator
	st := s.Asking(op, rule.Subject{Operator: operator}, time.Now())
	if pace.IsPatient(key) {
		return Lanes{N: 1, Location: st.Location}
	}
	p := pace.Start()
	if by, met := op.By[st.Way.Route]; met {
		p = by.Pace
	}
	return Lanes{max(1, min(p.Lanes, s.Bounds(key).Cap)), st.Until, st.Location}
}

// attendedAt is a location, or the service's where no way leads out there now: what waits there is
// sorted anew.
func (s *Setup) attendedAt(location string) string {
	if slices.ContainsFunc(s.ways, func(w way) bool { return w.location == location }) {
		return location
	}
	return ""
}

// askedFresh is how old the time may be at which an operator is said to have been
// asked last.
const askedFresh = 5 * time.Second

// Unchanged reports that what was met teaches nothing: so it is as long as an
// operator is asked on all its lanes and complains of nothing. Then its record,
// which all of its lanes share, is left alone.
func (s *Setup) Unchanged(operator string, known store.OperatorRoute, met pace.Seen, now time.Time) bool {
	return known.AskedAt != nil && now.Sub(*known.AskedAt) < askedFresh && known.Pace.After(met, now, s.Bounds(operator)) == known.Pace
}

// Name is what a route is called.
func (s *Setup) Name(id int64) string {
	for _, w := range s.ways {
		if w.Route == id && w.Name != "" {
			return w.Name
		}
	}
	return string(route.Direct)
}

// Another reports whether there is a route beside this one that does not rest.
func (s *Setup) Another(id int64, now time.Time) bool {
	return slices.ContainsFunc(s.ways, func(w way) bool { return w.Route != id && !now.Before(w.restUntil) })
}

// Rests is how often a route rested in a row.
func (s *Setup) Rests(id int64) int {
	for _, w := range s.ways {
		if w.Route == id {
			return w.rests
		}
	}
	return 0
}

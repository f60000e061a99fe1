package work

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/probe"
	"varnet/core/route"
	"varnet/internal/store"
)

// How a route is left alone that fails: soon enough that work goes on within a
// minute of the cure.
const (
	failedRest = 5 * time.Second
	failedMost = 40 * time.Second
)

// lately is how far back counts what hosts did with a route.
const lately = time.Hour

// The kinds of notices, and of rests.
const (
	refused = "refused" // an operator refuses us by a route; a route rests for it
	rests   = "rests"   // too many operators do
	fails   = "fails"   // the route itself fails
)

// maxPauses is how often the only route rests because hosts refuse it, before
// what they say is taken as it is.
const maxPauses = 2

// refusedRest is how long a refused route is left alone first, and at most;
// and how long an operator that refuses it is not asked by it.
func (e *Engine) refusedRest() (first, most, operator time.Duration) {
	last := e.Rounds[len(e.Rounds)-1]
	return e.Rounds[0], last, 3 * last
}

// moveRefused takes the addresses of operators that refuse us by one route, and
// may be asked by another, out of what is postponed: they are asked again at
// once, as though this time had not been.
func (l *loaded) moveRefused(out *probe.Outcome, next *after) {
	var moved []store.Asking
	out.Postponed = slices.DeleteFunc(out.Postponed, func(r probe.Result) bool {
		by := l.asked[r.Ref]
		if r.Verdict.Cause != finding.ExchangerBlocksUs || !out.Seen[by.source].Refused() || !l.other(by, next.now) {
			return false
		}
		l.moved[by.source] = true
		r.Rounds--
		moved = append(moved, next.asking(r))
		return true
	})
	next.again(next.now, next.parcel.Round, moved)
}

// other reports whether somebody refused by one route will be asked by another
// that is not known to be refused.
func (l *loaded) other(by asked, now time.Time) bool {
	op := store.Operator{Name: by.source.Operator, By: maps.Clone(l.known[by.source.Operator].By)}
	if op.By == nil {
		op.By = map[int64]store.OperatorRoute{}
	}
	far := now.Add(lately)
	op.By[by.source.Route] = store.OperatorRoute{BlockedUntil: &far}
	st := l.side.Asking(op, by.subject, now)
	return st.Way.Route != by.source.Route && !now.Before(op.By[st.Way.Route].Blocked())
}

// learn takes in how operators and routes did, and returns the operators' paces.
// First come the operators' records and then the routes', each in one order for
// all, against deadlocks.
func (e *Engine) learn(ctx context.Context, s *store.Store, tx pgx.Tx, run int64, l loaded, seen map[probe.Source]pace.Seen, now time.Time) (map[string]pace.Pace, error) {
	paces := map[string]pace.Pace{}
	sources := slices.SortedFunc(maps.Keys(seen), func(a, b probe.Source) int {
		return cmp.Or(cmp.Compare(a.Operator, b.Operator), cmp.Compare(a.Route, b.Route))
	})
	for _, from := range sources {
		met := seen[from]
		if !l.news(from, met, now) {
			continue
		}
		p, err := s.LearnPace(ctx, from.Operator, from.Route, met, now, l.side.Bounds(from.Operator))
		if err != nil {
			return nil, err
		}
		paces[from.Operator] = p
	}
	slices.SortStableFunc(sources, func(a, b probe.Source) int { return cmp.Compare(a.Route, b.Route) })
	for _, from := range sources {
		if err := e.learnRoute(ctx, s, tx, run, l, from, seen[from], now); err != nil {
			return nil, err
		}
	}
	return paces, nil
}

// news tells that what was met changes what is known of an operator's pace.
func (l *loaded) news(from probe.Source, met pace.Seen, now time.Time) bool {
	if met.Sessions+met.Failed == 0 {
		return false // nobody was met
	}
	return !l.side.Unchanged(from.Operator, l.known[from.Operator].By[from.Route], met, now)
}

// teaches tells that there is more to write down of a parcel than its results: of
// operators, routes, or how domains take mail.
func (l *loaded) teaches(out probe.Outcome, now time.Time) bool {
	for from, met := range out.Seen {
		if l.news(from, met, now) || met.NoWay > 0 || met.Refused() || l.side.Rests(from.Route) > 0 {
			return true
		}
	}
	return len(newAcceptances(l.parcel.Domains, out.Acceptances)) > 0
}

// newAcceptances returns the acceptances that say more than what was known of the domains asked about.
func newAcceptances(asked []probe.Domain, acceptances []probe.Acceptance) (out []probe.Acceptance) {
	before := map[probe.Site]probe.Acceptance{}
	for _, d := range asked {
		for _, a := range d.Acceptances {
			before[a.Site()] = a
		}
	}
	for _, a := range acceptances {
		if known, ok := before[a.Site()]; !ok || a.Teaches(known) {
			out = append(out, a)
		}
	}
	return out
}

func (e *Engine) learnRoute(ctx context.Context, s *store.Store, tx pgx.Tx, run int64, l loaded, from probe.Source, met pace.Seen, now time.Time) error {
	switch {
	case met.NoWay > 0:
		return e.routeFails(ctx, s, tx, run, l, from.Route, met.NoWaySays, now)
	case met.Refused():
		return e.routeRefused(ctx, s, tx, run, l, from, met.Words, now)
	case met.Sessions > 0 && l.side.Rests(from.Route) > 0:
		return s.RouteWell(ctx, from.Route)
	}
	return nil
}

// routeFails leaves a route alone that failed itself.
func (e *Engine) routeFails(ctx context.Context, s *store.Store, tx pgx.Tx, run int64, l loaded, id int64, says string, now time.Time) error {
	until, ok, err := s.RestRoute(ctx, id, failedRest, failedMost, fails, says)
	if err != nil || !ok {
		return err
	}
	e.Outbound.Forget()
	if l.side.Rests(id) == 0 {
		if err := e.Happened(ctx, s, tx, event.Event{Code: event.OutboundFailed, Says: fmt.Sprintf("The route %s failed at work: %s", l.side.Name(id), says),
			Data: event.Data{Route: l.side.Name(id), Words: says}}); err != nil {
			return err
		}
	}
	return e.noticed(ctx, s, tx, run, store.Notice{Kind: fails, Route: l.side.Name(id), Words: says, Until: &until, Moved: l.side.Another(id, now)})
}

// noticed records what happened to outbound during a run. A run that no route is left for is
// blocked, which is told once.
func (e *Engine) noticed(ctx context.Context, s *store.Store, tx pgx.Tx, run int64, n store.Notice) error {
	if err := s.AddNotice(ctx, run, n); err != nil || n.Moved {
		return err
	}
	told, err := s.Happened(ctx, event.Event{Code: event.RunBlocked, Data: event.Data{RunID: run}}.Thing(), event.RunBlocked)
	if err != nil || told {
		return err
	}
	return e.runHappened(ctx, s, tx, run, event.Event{Code: event.RunBlocked, Data: event.Data{Route: n.Route, Words: n.Words}})
}

// routeRefused remembers that an operator refuses a route, and leaves the route
// alone when too many do.
func (e *Engine) routeRefused(ctx context.Context, s *store.Store, tx pgx.Tx, run int64, l loaded, from probe.Source, words string, now time.Time) error {
	first, most, operator := e.refusedRest()
	moved := l.moved[from]
	until := now.Add(operator)
	name := l.side.Name(from.Route)
	if err := s.Block(ctx, from.Operator, from.Route, until, words); err != nil {
		return err
	}
	if err := s.AddNotice(ctx, run, store.Notice{Kind: refused, Route: name, Operator: from.Operator, Words: words, Until: &until, Moved: moved}); err != nil {
		return err
	}
	asked, refusing, err := s.RouteUse(ctx, from.Route, now.Add(-lately))
	if err != nil || from.Route == 0 || !route.Refused(refusing, asked) || !moved && l.side.Rests(from.Route) >= maxPauses {
		return err
	}
	until, ok, err := s.RestRoute(ctx, from.Route, first, most, refused, words)
	if err != nil || !ok {
		return err
	}
	e.Outbound.Forget()
	if err := e.Happened(ctx, s, tx, event.Event{Code: event.OutboundRefused,
		Says: fmt.Sprintf("%d of %d operators asked within the last hour refuse the route %s, so it is left alone until %s. The last one said: “%s”. This says nothing about the addresses.", refusing, asked, name, until.UTC().Format("15:04 MST"), words),
		Data: event.Data{Route: name, Words: words, Until: &until}}); err != nil {
		return err
	}
	return e.noticed(ctx, s, tx, run, store.Notice{Kind: rests, Route: name, Words: words, Until: &until, Moved: l.side.Another(from.Route, now)})
}

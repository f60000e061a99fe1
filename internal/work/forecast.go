package work

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"varnet/core/pace"
	"varnet/core/resolve"
	"varnet/internal/outbound"
	"varnet/internal/store"
	"varnet/internal/summary"
)

// Left returns what is left of a run.
func (e *Engine) Left(ctx context.Context, run store.Run) (l summary.Left, err error) {
	awaited, err := e.Store.Awaited(ctx, run.ID)
	if err != nil {
		return l, err
	}
	keys := make([]string, len(awaited))
	for i, a := range awaited {
		keys[i] = a.LaneKey
	}
	fails, err := e.Store.FailingSince(ctx, failingTimes, failingFor, run.ID, keys)
	if err != nil {
		return l, err
	}
	l.PlanFails = since(fails, "")
	if len(awaited) == 0 {
		return l, nil
	}
	q, err := e.queues(ctx, run.ID, keys)
	if err != nil {
		return l, err
	}
	var loads []pace.Load
	shared := summary.Awaited{}
	for _, a := range awaited {
		load := q.load(a.LaneKey, a.Left())
		if a.Left() > 0 {
			loads = append(loads, load)
		}
		if pace.IsShared(a.LaneKey) {
			add(&shared, a, load)
			shared.Fails = cmp.Or(shared.Fails, since(fails, a.LaneKey))
			continue
		}
		one := summary.Awaited{Operator: a.LaneKey, Unresolved: a.LaneKey == pace.Unresolved, Fails: since(fails, a.LaneKey)}
		add(&one, a, load)
		if load.Rest > 0 {
			until := q.now.Add(load.Rest)
			one.Until, one.Rests = &until, true
		}
		l.Awaited = append(l.Awaited, one)
	}
	if shared.Ready+shared.InHand+shared.Postponed > 0 {
		l.Awaited = append(l.Awaited, shared)
	}
	l.Forecast = pace.Expect(loads, q.lanes)
	return l, nil
}

// since returns since when something has failed; nil where it has not.
func since(fails map[string]time.Time, what string) *time.Time {
	at, is := fails[what]
	if !is {
		return nil
	}
	return &at
}

func add(a *summary.Awaited, o store.Awaited, l pace.Load) {
	a.Ready, a.InHand, a.Postponed = a.Ready+o.Ready, a.InHand+o.InHand, a.Postponed+o.Postponed
	a.Lanes, a.PerSecond = a.Lanes+l.Lanes, max(a.PerSecond, l.PerSecond)
	if o.Until != nil && (a.Until == nil || o.Until.Before(*a.Until)) {
		a.Until = o.Until
	}
}

// queues is what is known of lane keys that a forecast rests on.
type queues struct {
	now    time.Time
	side   *outbound.Setup
	known  map[string]store.Operator
	speeds map[string]float64
	// awaited are the addresses of all runs, own those of the run itself among them.
	awaited map[string]int64
	own     bool
	// lanes are those that all workers work in at once.
	lanes int
}

func (e *Engine) queues(ctx context.Context, run int64, keys []string) (q queues, err error) {
	q.now = time.Now()
	if q.side, err = e.Outbound.Setup(ctx); err != nil {
		return q, err
	}
	if q.known, err = e.Store.Operators(ctx, keys); err != nil {
		return q, err
	}
	if q.speeds, err = e.Store.Speeds(ctx, keys); err != nil {
		return q, err
	}
	if q.awaited, err = e.awaited.of(ctx, e.Store); err != nil {
		return q, err
	}
	q.own = run != 0
	workers, err := e.Store.Workers(ctx)
	for _, w := range workers {
		q.lanes += w.Lanes
	}
	return q, err
}

// others is how many addresses of other runs may be asked now at a lane key, at which the run has some.
func (q queues) others(key string, addresses int64) int64 {
	if !q.own {
		return q.awaited[key]
	}
	return max(0, q.awaited[key]-addresses)
}

// awaited remembers what waits at all lane keys for a moment: many runs are looked at, and all of them want
// to know.
type awaited struct {
	mu    sync.Mutex
	at    time.Time
	byKey map[string]int64
}

// awaitedKept is how long it is taken to be as it was read.
const awaitedKept = 2 * time.Second

func (a *awaited) of(ctx context.Context, s *store.Store) (map[string]int64, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if time.Since(a.at) < awaitedKept {
		return a.byKey, nil
	}
	now, err := s.AwaitedByAll(ctx)
	if err == nil {
		a.byKey, a.at = now, time.Now()
	}
	return now, err
}

// load is what is left at a lane key. Runs take turns: another one that waits
// there, too, makes it at most twice as long.
func (q queues) load(key string, addresses int64) pace.Load {
	lanes := q.side.Lanes(key, q.known)
	n, until := lanes.N, lanes.Until
	l := pace.Load{Key: key, Addresses: addresses + min(addresses, q.others(key, addresses)), Lanes: n, Cap: 1, PerSecond: q.speeds[key], Rest: max(0, until.Sub(q.now))}
	if !pace.IsShared(key) && key != pace.Unresolved {
		l.Cap = q.side.Bounds(key).Cap
	}
	return l
}

const (
	// draftDomains are looked up for a draft, the largest, within draftTime.
	draftDomains = 300
	draftTime    = 4 * time.Second
)

// Draft tells what a run of a list would take. It looks the largest domains up;
// of the others it takes each for an operator of its own.
func (e *Engine) Draft(ctx context.Context, l store.List, run store.Run) (d summary.Draft, err error) {
	if run.Depth != store.DepthMailbox {
		return d, nil
	}
	if d.Reused, err = e.reusable(ctx, run); err != nil {
		return d, err
	}
	domains, err := e.Store.NextDomains(ctx, l.ID, store.Plan{}, draftDomains)
	if err != nil {
		return d, err
	}
	byOperator := map[string]int64{}
	for i, f := range e.lookUpBriefly(ctx, domains) {
		n := int64(domains[i].Addresses)
		_, hopeless := f.Outcome.Cause()
		switch {
		case f.Outcome == "" || f.Outcome == resolve.Failed:
			continue
		case hopeless:
			d.Hopeless += n
		default:
			byOperator[f.Operator()] += n
		}
		d.LookedUp += n
	}
	left := max(0, 1-float64(d.Reused)/float64(max(1, l.Addresses)))
	d.Operators, d.Hopeless = len(byOperator), int64(left*float64(d.Hopeless))
	d.Ask = max(0, l.Addresses-d.Reused-d.Hopeless)
	loads, q, err := e.draftLoads(ctx, byOperator, left, l.Addresses-d.LookedUp)
	if err != nil {
		return d, err
	}
	d.Forecast = pace.Expect(loads, q.lanes)
	return d, nil
}

func (e *Engine) reusable(ctx context.Context, run store.Run) (int64, error) {
	sampled, err := e.Store.Sampled(ctx, run.ListID)
	if err != nil || run.ReuseDays == 0 && !sampled {
		return 0, err
	}
	fresh, err := e.fresh(ctx, run)
	if err != nil {
		return 0, err
	}
	return e.Store.Reusable(ctx, run, fresh, run.ReuseDays == 0)
}

// lookUpBriefly looks domains up side by side; what takes too long is left open.
func (e *Engine) lookUpBriefly(ctx context.Context, domains []store.DomainSize) []resolve.Domain {
	ctx, cancel := context.WithTimeout(ctx, draftTime)
	defer cancel()
	type answer struct {
		at int
		resolve.Domain
	}
	answers := make(chan answer, len(domains))
	for i, d := range domains {
		go func() { answers <- answer{i, e.Resolver.Lookup(ctx, d.Domain)} }()
	}
	out := make([]resolve.Domain, len(domains))
	for range domains {
		select {
		case a := <-answers:
			out[a.at] = a.Domain
		case <-ctx.Done():
			return out
		}
	}
	return out
}

// draftLoads are the loads of a draft: those of large operators, and of all the
// others on the lanes that they share.
func (e *Engine) draftLoads(ctx context.Context, byOperator map[string]int64, left float64, tail int64) ([]pace.Load, queues, error) {
	byKey := map[string]int64{}
	for op, n := range byOperator {
		key := op
		if n = int64(left * float64(n)); n < pace.OwnFrom {
			key = pace.SharedKey(op)
		}
		byKey[key] += n
	}
	for i := range pace.SharedLanes { // small operators spread evenly
		byKey[pace.SharedLane(i)] += int64(left * float64(tail) / pace.SharedLanes)
	}
	keys := slices.Sorted(maps.Keys(byKey))
	q, err := e.queues(ctx, 0, keys)
	var loads []pace.Load
	for _, key := range keys {
		if byKey[key] > 0 {
			loads = append(loads, q.load(key, byKey[key]))
		}
	}
	return loads, q, err
}

package work

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/catalogue"
	"varnet/core/estimate"
	"varnet/core/fault"
	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/resolve"
	"varnet/core/rule"
	"varnet/internal/bounce"
	"varnet/internal/outbound"
	"varnet/internal/store"
)

// PlanArgs names the run to plan.
type PlanArgs struct {
	Run int64 `json:"run"`
}

// Kind names the job.
func (PlanArgs) Kind() string { return "plan" }

// InsertOpts makes it one job a run.
func (PlanArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queuePlan, UniqueOpts: unique}
}

// Planning goes on in short slices, and the first one of a run goes before later
// ones of others: somebody may be watching for its first results.
const (
	planSlice = 1500 * time.Millisecond
	planners  = 8 // runs that a process plans at once
	planLater = 3
)

// The runs of a workspace that has many at work are planned after those of others.
const (
	fewRuns  = 4
	manyRuns = 16
)

// insertPlan has a run planned.
func (e *Engine) insertPlan(ctx context.Context, s *store.Store, tx pgx.Tx, workspace, run int64) error {
	n, err := s.RunsGoing(ctx, workspace)
	if err != nil {
		return err
	}
	opts := PlanArgs{}.InsertOpts()
	switch {
	case n > manyRuns:
		opts.Priority = planLater
	case n > fewRuns:
		opts.Priority = planLater - 1
	}
	_, err = e.client.InsertTx(ctx, tx, PlanArgs{Run: run}, &opts)
	return err
}

type planWorker struct {
	river.WorkerDefaults[PlanArgs]
	engine *Engine
}

// How much is planned in one transaction. The first batch of domains is small,
// so that the first results come at once.
const (
	malformedBatch = 5000
	firstBatch     = 40
	domainBatch    = 400
	// addressBatch is how many addresses are planned in one transaction, which
	// must end well within a job's time. A larger domain is planned in parts.
	addressBatch = 20_000
)

// Timeout leaves large lists the time in which results of earlier runs are taken over; all other steps are
// short.
func (w *planWorker) Timeout(*river.Job[PlanArgs]) time.Duration { return 10 * time.Minute }

func (w *planWorker) Work(ctx context.Context, job *river.Job[PlanArgs]) error {
	e := w.engine
	end := time.Now().Add(planSlice)
	for {
		run, err := e.Store.RunByID(ctx, job.Args.Run)
		if errors.Is(err, store.ErrNotFound) || err == nil && (run.State != store.Running || run.Plan.Done) {
			return e.finishDone(ctx, job.Args.Run)
		}
		if err == nil {
			err = e.planStep(ctx, run)
		}
		if err != nil {
			return err
		}
		if time.Now().After(end) || e.closing.Load() {
			return e.Store.InTx(ctx, func(_ *store.Store, tx pgx.Tx) error {
				if _, err := river.JobCompleteTx[*riverpgx](ctx, tx, job); err != nil {
					return err
				}
				_, err := e.client.InsertTx(ctx, tx, job.Args, &river.InsertOpts{Priority: planLater})
				return err
			})
		}
	}
}

// planStep plans one batch. The steps up to the first are what somebody who started the run may be
// watching for, and give way to nobody.
func (e *Engine) planStep(ctx context.Context, run store.Run) error {
	if run.Plan.Batch > 0 {
		e.Gate.GiveWay(ctx)
	}
	switch {
	case run.Sample != nil:
		return e.planSample(ctx, run)
	case run.Depth == store.DepthMailbox && !run.Plan.ReuseDone:
		return e.reuse(ctx, run)
	case run.Depth == store.DepthMailbox && !run.Plan.BouncedDone:
		return e.concludeBounced(ctx, run)
	case !run.Plan.SyntaxDone:
		return e.concludeMalformed(ctx, run)
	}
	size := domainBatch
	if run.Plan.Batch == 0 {
		size = firstBatch
	}
	domains, err := e.Store.NextDomains(ctx, run.ListID, run.Plan, size)
	if err != nil {
		return err
	}
	if len(domains) == 0 {
		run.Plan.Done = true
		return e.Store.SavePlan(ctx, run.ID, run.Plan)
	}
	return e.planDomains(ctx, run, domains, len(domains) < size)
}

// planSample plans a run of a sample, all of it at once.
func (e *Engine) planSample(ctx context.Context, run store.Run) error {
	addresses, err := e.Store.AddressesAt(ctx, run.ListID, run.Sample)
	if err != nil {
		return err
	}
	b, questions := &batch{run: run, round: 1}, store.Questions(addresses)
	if err := e.sort(ctx, b, store.DomainsOf(questions), questions); err != nil {
		return err
	}
	run.Plan.Done = true
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		return inOrder(
			func() error { return s.AddRunDomains(ctx, run.ID, b.runDomains()) },
			func() error { return e.recordBatch(ctx, s, tx, b) },
			func() error { return s.SavePlan(ctx, run.ID, run.Plan) },
		)
	})
}

// reuse takes over what earlier runs found out and is fresh still.
func (e *Engine) reuse(ctx context.Context, run store.Run) error {
	sampled, err := e.Store.Sampled(ctx, run.ListID)
	if err != nil {
		return err
	}
	fresh, err := e.fresh(ctx, run)
	if err != nil {
		return err
	}
	if run.ReuseDays == 0 && !sampled {
		run.Plan.ReuseDone = true
		return e.Store.SavePlan(ctx, run.ID, run.Plan)
	}
	return e.Store.Reuse(ctx, &run, fresh, run.ReuseDays == 0, func(results int) { e.got(ctx, run.ID, results) })
}

// concludeBounced gives addresses their result to which a message bounced for good: nobody
// asks about them.
func (e *Engine) concludeBounced(ctx context.Context, run store.Run) error {
	results, err := bounce.Conclude(ctx, e.Store, run, e.Clock.Now())
	if err != nil {
		return err
	}
	if err := e.Store.KnowVerdicts(ctx, results); err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if err := s.AddOutcomes(ctx, run.ID, results); err != nil {
			return err
		}
		run.Plan.BouncedDone, run.Plan.Bounced = true, int64(len(results))
		return s.SavePlan(ctx, run.ID, run.Plan)
	})
}

// fresh tells since when the results of each verdict are taken over.
func (e *Engine) fresh(ctx context.Context, run store.Run) (out []store.Fresh, err error) {
	verdicts, err := e.Store.Verdicts(ctx)
	const day = 24 * time.Hour
	for id, v := range verdicts {
		keeps := v.Cause.Keeps(time.Duration(max(run.ReuseDays, estimate.SampleDays)) * day)
		if len(run.Ages) > 0 && keeps > 0 {
			keeps = time.Duration(run.Ages[v.Finding]) * day
		}
		if keeps > 0 {
			out = append(out, store.Fresh{Verdict: id, Since: e.Clock.Now().Add(-keeps)})
		}
	}
	return out, err
}

// concludeMalformed concludes the texts that are not addresses.
func (e *Engine) concludeMalformed(ctx context.Context, run store.Run) error {
	rows, err := e.Store.Malformed(ctx, run.ListID, run.Plan.Malformed, malformedBatch)
	if err != nil {
		return err
	}
	var results []store.Concluded
	for _, r := range rows {
		results = append(results, store.Concluded{Address: r.Ordinal,
			Verdict: finding.ConcludeFrom(finding.Cause(r.Problem.Cause), nil)})
		run.Plan.Malformed = r.Ordinal
	}
	run.Plan.SyntaxDone = len(rows) < malformedBatch
	if err := e.Store.KnowVerdicts(ctx, results); err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if err := s.AddResults(ctx, run.ID, results); err != nil {
			return err
		}
		return s.SavePlan(ctx, run.ID, run.Plan)
	})
}

// planDomains resolves a batch of domains, concludes what is hopeless and cuts
// the rest into parcels. last tells that they are the last of the list.
func (e *Engine) planDomains(ctx context.Context, run store.Run, domains []store.DomainSize, last bool) error {
	all := len(domains)
	domains, names := upTo(domains)
	before := run.Plan.Ordinal
	addresses, err := e.Store.AddressesIn(ctx, run, names, before, addressBatch)
	if err != nil {
		return err
	}
	b, questions := &batch{run: run, round: 1}, store.Questions(addresses)
	b.before = before > 0
	if run.Plan.Reused+run.Plan.Bounced > 0 {
		names = store.DomainsOf(questions) // of the others nothing is left to ask
	}
	if err := e.sort(ctx, b, names, questions); err != nil {
		return err
	}
	run.Plan.Batch++
	if len(addresses) == addressBatch { // more of the domain may come
		run.Plan.Ordinal = addresses[len(addresses)-1].Ordinal
	} else {
		to := domains[len(domains)-1]
		run.Plan.Ordinal, run.Plan.Addresses, run.Plan.Domain = 0, to.Addresses, to.Domain
		run.Plan.Done = last && len(domains) == all
	}
	countResults(b.results)
	defer e.got(ctx, run.ID, len(b.results))
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		return inOrder(
			func() error {
				if before > 0 {
					return nil // recorded with the first part of the domain
				}
				return s.ReplaceRunDomains(ctx, run.ID, b.runDomains())
			},
			func() error { return e.recordBatch(ctx, s, tx, b) },
			func() error { return s.SavePlan(ctx, run.ID, run.Plan) },
		)
	})
}

// upTo returns the first domains that have fewer addresses together than are
// planned in one transaction, or the first alone.
func upTo(domains []store.DomainSize) ([]store.DomainSize, []string) {
	sum, names := int32(0), []string{}
	for i, d := range domains {
		if sum += d.Addresses; i > 0 && sum >= addressBatch {
			return domains[:i], names
		}
		names = append(names, d.Domain)
	}
	return domains, names
}

// sort resolves the domains of a batch and sorts its addresses, which come in
// the order of their domains, into results and parcels.
func (e *Engine) sort(ctx context.Context, b *batch, names []string, questions []store.Asking) (err error) {
	b.now, b.rounds = time.Now(), e.Rounds
	if _, b.known, err = e.ofRun(ctx, b.run.ID); err != nil {
		return err
	}
	if b.run.Depth != store.DepthSyntax {
		if b.facts, err = e.lookUp(ctx, names); err != nil {
			return err
		}
	}
	if b.side, err = e.Outbound.Setup(ctx); err != nil {
		return err
	}
	own, err := e.Store.OwnRules(ctx, b.run.WorkspaceID)
	if err != nil {
		return err
	}
	b.side = b.side.For(own)
	for some := range slices.Chunk(questions, concludedAtOnce) {
		e.Gate.GiveWay(ctx)
		b.conclude(some)
	}
	if b.operators, err = e.Store.Operators(ctx, b.operatorNames()); err != nil {
		return err
	}
	b.cut()
	return e.Store.KnowVerdicts(ctx, b.results)
}

// recordBatch writes a batch down and sets its lanes going.
func (e *Engine) recordBatch(ctx context.Context, s *store.Store, tx pgx.Tx, b *batch) error {
	return inOrder(
		func() error { return s.AddResults(ctx, b.run.ID, b.results) },
		func() error { return s.OwnLanes(ctx, b.own) },
		func() error { return s.StandInLine(ctx, b.run, b.parcels) },
		func() error { return s.AddParcels(ctx, b.parcels) },
		func() error { return e.openLanes(ctx, s, tx, b.side, b.operators, b.parcels) },
	)
}

// lookUp resolves all names side by side. When most lookups failed and the
// resolvers do not answer at all, nothing is concluded: the batch is planned
// again when they do.
func (e *Engine) lookUp(ctx context.Context, names []string) (map[string]resolve.Domain, error) {
	found := make([]resolve.Domain, len(names))
	var wg sync.WaitGroup
	var faults fault.Keeper
	for i, n := range names {
		wg.Go(func() {
			defer faults.Keep()
			found[i] = e.Resolver.Lookup(ctx, n)
		})
	}
	wg.Wait()
	faults.Throw()
	failed, facts := 0, map[string]resolve.Domain{}
	for _, d := range found {
		facts[d.Name] = d
		if d.Outcome == resolve.Failed {
			failed++
		}
	}
	if failed*2 > len(names) && !e.Resolver.Alive(ctx) {
		e.Log.Warn("no DNS resolver answers; planning waits", "resolvers", e.Resolver.Servers())
		return nil, errors.New("no DNS resolver answers")
	}
	return facts, nil
}

// concludedAtOnce is how many addresses are sorted before others have their turn.
const concludedAtOnce = 1000

// batch is a batch of domains on its way from names to parcels.
type batch struct {
	run   store.Run
	round int32
	again bool // its addresses have a result
	// before tells that parts of the same domain were planned before.
	before  bool
	rounds  pace.Rounds
	now     time.Time
	facts   map[string]resolve.Domain
	known   *catalogue.Catalogue
	side    *outbound.Setup
	results []store.Concluded
	open    map[string]map[string][]store.Asking // by operator and domain
	parcels []store.Parcel
	// operators is what is known of the operators; own are those that are to
	// get lanes of their own.
	operators map[string]store.Operator
	own       []string
}

// conclude sorts the addresses: concluded by DNS or the run's
// depth, or open for their operator.
func (b *batch) conclude(questions []store.Asking) {
	if b.open == nil {
		b.open = map[string]map[string][]store.Asking{}
	}
	var unresolved []store.Asking
	again, more := b.rounds.Return(int(b.round), 0, b.now)
	each := b.side.RegardsAddresses()
	var d resolve.Domain
	var op string
	var cause finding.Cause
	var hopeless bool
	for i, q := range questions {
		first := i == 0 || questions[i-1].Domain != q.Domain
		if first {
			d = b.facts[q.Domain]
			op = d.Operator()
		}
		if d.Outcome == resolve.Failed && more && b.round <= resolveAgain {
			unresolved = append(unresolved, q)
			continue
		}
		if first || each {
			cause, hopeless = b.hopeless(q, d, op)
		}
		if hopeless {
			b.results = append(b.results, store.Concluded{Address: q.Ordinal, Asked: q.Asked, Was: q.Was,
				Verdict: finding.ConcludeFrom(cause, b.traits(q, d))})
			continue
		}
		if b.open[op] == nil {
			b.open[op] = map[string][]store.Asking{}
		}
		if first {
			b.open[op][q.Domain] = slices.Grow(b.open[op][q.Domain], ofDomain(questions[i:]))
		}
		b.open[op][q.Domain] = append(b.open[op][q.Domain], q)
	}
	b.pack(pace.Unresolved, unresolved, b.round+1, again)
}

// traits are those of an address that is not asked about.
func (b *batch) traits(q store.Asking, d resolve.Domain) finding.Traits {
	t := b.known.DomainTraits(q.Domain, d.Hosts()).With(q.Traits...)
	if d.Outcome == resolve.ByMX {
		t = b.known.Served(q.Domain, d.Hosts(), t)
	}
	return t
}

// hopeless tells why an address is not asked about: its domain, the run's depth
// or a rule.
func (b *batch) hopeless(q store.Asking, d resolve.Domain, operator string) (finding.Cause, bool) {
	r := b.side.Rule(rule.Subject{Address: q.Mailbox, Domain: q.Domain, Operator: operator})
	cause, hopeless := d.Outcome.Cause()
	switch {
	case r.Depth == string(store.DepthSyntax):
		return finding.RuleDepth, true
	case hopeless:
		return cause, true
	case r.Depth == rule.Never:
		return finding.RuleSkipped, true
	}
	return finding.RuleDepth, b.run.Depth != store.DepthMailbox || r.Depth != ""
}

func (b *batch) operatorNames() (names []string) {
	for op := range b.open {
		names = append(names, op)
	}
	return names
}

func (b *batch) runDomains() (out []store.RunDomain) {
	for name, d := range b.facts {
		out = append(out, store.RunDomain{Domain: name, Operator: d.Operator(), Facts: d})
	}
	return out
}

// cut makes parcels of what is open.
func (b *batch) cut() {
	shared := map[string][]store.Asking{}
	for op, domains := range b.open {
		var asking []store.Asking
		for _, d := range domains {
			asking = append(asking, d...)
		}
		if !b.operators[op].Own && len(asking) < pace.OwnFrom {
			key := pace.KeyAt(pace.SharedKey(op), b.locationOf(op))
			shared[key] = append(shared[key], asking...)
			continue
		}
		if !b.operators[op].Own {
			b.own = append(b.own, op)
		}
		b.pack(op, asking, b.round, b.now)
	}
	for key, asking := range shared {
		b.pack(key, asking, b.round, b.now)
	}
}

// locationOf is where the workers are who ask an operator now.
func (b *batch) locationOf(operator string) string {
	known := b.operators[operator]
	known.Name = operator
	return b.side.Asking(known, rule.Subject{Operator: operator}, b.now).Location
}

func (b *batch) pack(key string, asking []store.Asking, round int32, notBefore time.Time) {
	begin, end := 0, 0
	for i, n := range pace.Cut(len(asking), b.before) {
		end += n
		if at := wholeDomain(asking, end); at > begin {
			b.parcels = append(b.parcels, store.Parcel{RunID: b.run.ID, LaneKey: key, Turn: b.run.FirstTurn() + b.run.Plan.Batch + int32(i), Round: round,
				Questions: asking[begin:at], NotBefore: notBefore, Again: b.again})
			begin = at
		}
	}
}

// wholeDomain moves a cut that would part a small domain behind it: whether a host knows
// its mailboxes shows best by all its answers at once. Questions of a domain stand
// together.
func wholeDomain(asking []store.Asking, at int) int {
	if at >= len(asking) {
		return len(asking)
	}
	begin, end := at, at
	for begin > 0 && at-begin < pace.OwnFrom && asking[begin-1].Domain == asking[at].Domain {
		begin--
	}
	for begin < at && end < len(asking) && end-begin < pace.OwnFrom && asking[end].Domain == asking[at].Domain {
		end++
	}
	if end-begin >= pace.OwnFrom {
		return at
	}
	return end
}

// portionOf moves the cut of a parcel behind a small domain. A domain that fills a parcel
// alone is a piece of a large one, and may be cut anywhere.
func portionOf(asking []store.Asking, at int) int {
	if asking[0].Domain == asking[len(asking)-1].Domain {
		return at
	}
	return wholeDomain(asking, at)
}

// openLanes sees to it that the parcels' lane keys have their lanes going, now
// or when the parcels fall due.
func (e *Engine) openLanes(ctx context.Context, st *store.Store, tx pgx.Tx, s *outbound.Setup, known map[string]store.Operator, parcels []store.Parcel) error {
	ready := map[string]store.Ready{}
	for _, p := range parcels {
		if p.NotBefore.After(time.Now()) {
			if err := e.wake(ctx, tx, p.LaneKey, p.NotBefore); err != nil {
				return err
			}
			continue
		}
		r, seen := ready[p.LaneKey]
		if r.Parcels, r.Addresses = r.Parcels+1, r.Addresses+int64(len(p.Questions)); !seen || p.Turn < r.Turn {
			r.Turn = p.Turn
		}
		ready[p.LaneKey] = r
	}
	if len(ready) == 0 {
		return nil
	}
	speeds, err := st.Speeds(ctx, slices.Sorted(maps.Keys(ready)))
	if err != nil {
		return err
	}
	var lanes []openedLane
	for _, key := range slices.Sorted(maps.Keys(ready)) { // in one order for all, against deadlocks
		r, all := ready[key], s.Lanes(key, known)
		lanes = append(lanes, opened(turn{urgency(r, all.N, speeds[key]), all.Location}, lanesOf(key, pace.Employed(r.Parcels, r.Addresses, all.N, speeds[key]))...)...)
	}
	return e.openMissing(ctx, st, tx, lanes)
}

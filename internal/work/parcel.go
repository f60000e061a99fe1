package work

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/pace"
	"varnet/core/probe"
	"varnet/core/rule"
	"varnet/internal/outbound"
	"varnet/internal/store"
	"varnet/internal/store/pack"
)

// workParcel claims, probes and records one parcel, and returns its run; 0 when there
// is nothing to do now. before is the run of the parcel before: that was its last one
// here where the next is another's.
func (e *Engine) workParcel(ctx context.Context, lane LaneArgs, end time.Time, before int64) (run int64, err error) {
	e.Gate.GiveWay(ctx)
	known, err := e.Store.Operators(ctx, []string{pace.PlainKey(lane.Key)})
	if err != nil {
		return 0, err
	}
	side, err := e.Outbound.Setup(ctx)
	if err != nil {
		return 0, err
	}
	lanes := side.Lanes(lane.Key, known)
	if lanes.Until.After(time.Now()) || lane.Lane >= lanes.N || !side.Here(lanes.Location) {
		return 0, nil
	}
	p, err := e.claim(ctx, lane, lanes)
	if err != nil || p == nil {
		return 0, err
	}
	if before != 0 && before != p.RunID {
		if err := e.finishDone(ctx, before); err != nil {
			return 0, err
		}
	}
	if lane.Key == pace.Unresolved {
		return p.RunID, e.resolveParcel(ctx, lane, p)
	}
	l, err := e.load(ctx, p, side, known)
	if err != nil {
		return 0, err
	}
	l.parcel.Lanes, l.parcel.Patient = lanes.N, pace.IsPatient(lane.Key)
	e.inHand.Add(1)
	defer e.inHand.Add(-1)
	probeCtx, cancel := context.WithDeadline(e.probing, end)
	defer cancel()
	begun := time.Now()
	out := e.Prober.Probe(probeCtx, l.parcel)
	e.learnSpeed(ctx, lane.Key, out.Answered(), time.Since(begun))
	e.Gate.GiveWay(ctx)
	return p.RunID, e.record(ctx, lane, p, l, out)
}

// claim takes the lane's portion of the next parcel; nil when there is none.
func (e *Engine) claim(ctx context.Context, lane LaneArgs, lanes outbound.Lanes) (*store.Parcel, error) {
	p, err := e.Store.Claim(ctx, lane.Key, lane.Lane)
	if err != nil || p == nil {
		return nil, err
	}
	speed, all := e.speeds.of(lane.Key), len(p.Questions)
	if lanes.N == 1 || all <= pace.Portion(0, lanes.N, speed) {
		return p, nil
	}
	others, err := e.Store.Ready(ctx, lane.Key)
	if err != nil {
		return nil, err
	}
	if n := portionOf(p.Questions, pace.Portion(others.Addresses+int64(all), lanes.N, speed)); n < all {
		return e.shorten(ctx, lane, lanes, p, n)
	}
	return p, nil
}

// shorten leaves a claimed parcel so many questions. The others are a parcel for
// all lanes of the key, which may have ended for want of one.
func (e *Engine) shorten(ctx context.Context, lane LaneArgs, lanes outbound.Lanes, p *store.Parcel, questions int) (*store.Parcel, error) {
	rest := *p
	rest.Questions = p.Questions[questions:]
	ready := store.Ready{Parcels: 1, Addresses: int64(len(rest.Questions)), Turn: rest.Turn}
	err := e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		ok, err := s.Shorten(ctx, p, lane.Lane, questions)
		if err != nil {
			return err
		}
		if !ok { // its run was stopped a moment ago
			p = nil
			return nil
		}
		p.Questions = p.Questions[:questions]
		return inOrder(
			func() error { return s.AddParcels(ctx, []store.Parcel{rest}) },
			func() error { return e.open(ctx, s, tx, ready, lanes, lanesOf(lane.Key, lanes.N)...) },
		)
	})
	return p, err
}

// loaded is a parcel with all that is known of its domains.
type loaded struct {
	side   *outbound.Setup
	parcel probe.Parcel
	known  map[string]store.Operator
	// catalogue is the run's.
	catalogue *catalogue.Catalogue
	asked     map[int64]asked       // by question
	moved     map[probe.Source]bool // whose addresses are asked by another route instead
	// resting are the questions that may not be asked now, by when they may; elsewhere are those
	// that workers of other locations ask, by the key of their lane.
	resting   map[time.Time][]store.Asking
	elsewhere map[string][]store.Asking
}

// asked is how a question is asked.
type asked struct {
	source  probe.Source
	subject rule.Subject
}

// load reads what is known of the parcel's addresses, domains and operators.
func (e *Engine) load(ctx context.Context, p *store.Parcel, side *outbound.Setup, known map[string]store.Operator) (loaded, error) {
	slices.SortFunc(p.Questions, func(a, b store.Asking) int {
		return cmp.Or(cmp.Compare(a.Domain, b.Domain), cmp.Compare(a.Ordinal, b.Ordinal))
	})
	domains, known, err := e.loadDomains(ctx, p.RunID, store.DomainsOf(p.Questions), known)
	if err != nil {
		return loaded{}, err
	}
	workspace, c, err := e.ofRun(ctx, p.RunID)
	if err != nil {
		return loaded{}, err
	}
	mailboxes := make([]string, len(p.Questions))
	for i, q := range p.Questions {
		mailboxes[i] = q.Mailbox
	}
	gone, err := e.oldAbsences(ctx, workspace, mailboxes)
	if err != nil {
		return loaded{}, err
	}
	for _, d := range domains {
		d.Traits = c.DomainTraits(d.Name, d.Hosts())
	}
	l := loaded{side: side, known: known, asked: map[int64]asked{}, moved: map[probe.Source]bool{}, resting: map[time.Time][]store.Asking{}, elsewhere: map[string][]store.Asking{}}
	l.catalogue = c
	l.assemble(p, domains)
	l.remember(gone)
	return l, nil
}

// loadDomains reads the domains in the order of their names, without their
// questions, and what is known of their operators; of those in known it was read
// just now.
func (e *Engine) loadDomains(ctx context.Context, run int64, names []string, known map[string]store.Operator) (map[string]*probe.Domain, map[string]store.Operator, error) {
	facts, err := e.Store.RunDomains(ctx, run, names)
	if err != nil {
		return nil, nil, err
	}
	var operators []string
	domains := map[string]*probe.Domain{}
	for _, f := range facts {
		d := &probe.Domain{Name: f.Domain, Operator: f.Operator, Exchangers: f.Facts.Exchangers, Acceptances: f.Acceptances}
		domains[f.Domain] = d
		if _, ok := known[f.Operator]; !ok {
			operators = append(operators, f.Operator)
		}
	}
	if len(operators) > 0 {
		var others map[string]store.Operator
		others, err = e.Store.Operators(ctx, operators)
		maps.Copy(known, others)
	}
	return domains, known, err
}

// assemble puts the addresses to their domains; those that may not be asked now
// are set aside. Addresses of a domain that are asked in different ways make
// domains of their own.
func (l *loaded) assemble(p *store.Parcel, domains map[string]*probe.Domain) {
	now, each := time.Now(), l.side.RegardsAddresses()
	var st outbound.Asking
	alike := 0 // questions of the domain
	for i, q := range p.Questions {
		d := domains[q.Domain]
		subject := rule.Subject{Address: q.Mailbox, Domain: q.Domain, Operator: d.Operator}
		first := i == 0 || p.Questions[i-1].Domain != q.Domain
		if first {
			alike = ofDomain(p.Questions[i:])
		}
		if each || first {
			op := l.known[d.Operator]
			op.Name = d.Operator
			st = l.side.Asking(op, subject, now)
		}
		if !l.side.Here(st.Location) {
			key := pace.KeyAt(pace.SharedKey(d.Operator), st.Location)
			l.elsewhere[key] = append(l.elsewhere[key], q)
			continue
		}
		if !st.Until.IsZero() {
			l.resting[st.Until] = append(l.resting[st.Until], q)
			continue
		}
		l.asked[int64(q.Ordinal)] = asked{probe.Source{Operator: d.Operator, Route: st.Way.Route}, subject}
		l.ask(d, st.Way, alike, probe.Question{Ref: int64(q.Ordinal), Address: address.Rebuild(q.Mailbox),
			Traits: l.catalogue.Served(d.Name, d.Hosts(), d.Traits.With(q.Traits...)), Rounds: q.Rounds, Asked: q.Asked})
	}
}

// ofDomain counts the first questions that are of one domain.
func ofDomain(questions []store.Asking) (n int) {
	for n = 1; n < len(questions) && questions[n].Domain == questions[0].Domain; n++ {
	}
	return n
}

// ask adds a question of a domain, at which most are asked; they come one after the other.
func (l *loaded) ask(d *probe.Domain, w probe.Way, most int, q probe.Question) {
	for i := len(l.parcel.Domains) - 1; i >= 0 && l.parcel.Domains[i].Name == d.Name; i-- {
		if have := l.parcel.Domains[i].Way; have.Route == w.Route && have.Identity == w.Identity {
			l.parcel.Domains[i].Questions = append(l.parcel.Domains[i].Questions, q)
			return
		}
	}
	one := *d
	one.Way, one.Questions, one.Acceptances = &w, append(make([]probe.Question, 0, most), q), byRoute(d.Acceptances, w.Route)
	one.Lanes = pace.Start().Lanes
	if by, met := l.known[d.Operator].By[w.Route]; met {
		p := by.Pace
		one.Lanes, one.Proven, one.Longest, one.Takes, one.PerSession = p.Lanes, p.Proven, p.Longest, p.Takes, p.PerSession(time.Now())
	}
	one.Lanes = min(one.Lanes, l.side.Bounds(d.Operator).Cap)
	l.parcel.Domains = append(l.parcel.Domains, one)
}

// byRoute returns the acceptances that were learnt by a route.
func byRoute(all []probe.Acceptance, route int64) (out []probe.Acceptance) {
	for _, a := range all {
		if a.Route == route {
			out = append(out, a)
		}
	}
	return out
}

// record writes down what became of a parcel, in one transaction; which of most is
// one statement, since all they bring is results.
func (e *Engine) record(ctx context.Context, lane LaneArgs, p *store.Parcel, l loaded, out probe.Outcome) error {
	now := time.Now()
	next := newAfter(p, now)
	l.moveRefused(&out, next)
	next.conclude(e.Rounds, out)
	for at, asking := range l.resting {
		next.again(at, p.Round, asking)
	}
	for key, asking := range l.elsewhere {
		next.againAt(key, now, p.Round, asking)
	}
	if err := e.Store.KnowVerdicts(ctx, next.results); err != nil {
		return err
	}
	defer e.got(ctx, p.RunID, len(next.results))
	write := func(s *store.Store) (bool, error) {
		return s.RecordParcel(ctx, p.ID, lane.Lane, pack.ParcelRecord{Conversations: out.Conversations, Acceptances: out.Acceptances}, next.results)
	}
	if len(next.parcels) == 0 && !l.teaches(out, now) {
		_, err := write(e.Store)
		return e.measured(err, next.results, out.Conversations)
	}
	err := e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		ok, err := write(s)
		if err != nil || !ok {
			return err
		}
		var learnt map[string]pace.Pace
		return inOrder(
			func() error { return s.AddParcels(ctx, next.parcels) },
			func() error { return s.SaveAcceptances(ctx, newAcceptances(l.parcel.Domains, out.Acceptances)) },
			func() error { learnt, err = e.learn(ctx, s, tx, p.RunID, l, out.Seen, now); return err },
			func() error { return e.followUp(ctx, s, tx, l.side, lane, learnt[lane.Key], next.parcels) },
		)
	})
	return e.measured(err, next.results, out.Conversations)
}

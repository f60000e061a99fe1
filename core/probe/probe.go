// Package probe asks mail hosts about a parcel of addresses and concludes what
// their answers allow.
//
// A parcel holds domains with their exchangers and, for each, the addresses in
// question. Domains that share exchangers share sessions; operators are visited
// side by side, each on one connection at a time. Made-up mailboxes are asked
// among the real ones, so that a host that takes anything is found out.
//
//	p := probe.New(dialer, identity)
//	out := p.Probe(ctx, probe.Parcel{Domains: domains})
//	// out.Results are concluded; out.Postponed want another round;
//	// out.Unasked were not reached and lose nothing.
package probe

import (
	"context"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"varnet/core/address"
	"varnet/core/fault"
	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/resolve"
	"varnet/core/smtp"
)

// Dialer opens connections to exchangers; *net.Dialer is one.
type Dialer interface {
	DialContext(ctx context.Context, network, addr string) (net.Conn, error)
}

// Way is how a domain's hosts are asked: by which route, and as whom.
type Way struct {
	// Route is the caller's own number of the route, Name what it is called.
	Route    int64
	Name     string
	Dialer   Dialer
	Identity smtp.Identity
}

// Prober asks mail hosts. Its fields may be set before first use.
type Prober struct {
	// Way is how domains are asked that name no way of their own.
	Way    Way
	Limits smtp.Limits
	// Port is the exchangers' port: 25, but for the practice internet.
	Port int
	// Width is how many operators of one parcel are visited side by side.
	Width int
	// LastWait is how long patient parcels wait for a reply in their last rounds.
	LastWait time.Duration
	// Places bounds the sessions that one address sees; nil: nothing does.
	Places *pace.Places

	tls encryption
}

// New makes a prober for port 25 with the default limits.
func New(d Dialer, id smtp.Identity) *Prober {
	return &Prober{Way: Way{Dialer: d, Identity: id}, Limits: smtp.DefaultLimits(), Port: 25, Width: 32, LastWait: smtp.LastWait}
}

// Question is one address in question.
type Question struct {
	// Ref is the caller's own; it comes back with the outcome.
	Ref     int64
	Address address.Address
	Traits  finding.Traits
	// Absent is when the mailbox was first found absent in an earlier run;
	// zero: never.
	Absent time.Time
	// Rounds counts the rounds the address went through without a conclusion.
	Rounds int
	// Asked holds the answers of those rounds.
	Asked []Asked
}

// wasPutOff reports whether the host put the address off in an earlier round.
func (q *Question) wasPutOff() bool {
	return slices.ContainsFunc(q.Asked, func(a Asked) bool { return strings.HasPrefix(a.Reply, "4") })
}

// Asked is one time a host was asked about an address.
type Asked struct {
	// Parcel and Conversation tell where the session-level lines are kept;
	// the caller fills in Parcel.
	Parcel       int64
	Conversation int
	At           time.Time
	TookMS       float64
	Reply        string
	// Why is the reason of the rule that read the reply, or the trouble that
	// left the question unanswered.
	Why string
}

// Domain is one domain of a parcel.
type Domain struct {
	Name       string
	Operator   string
	Exchangers []resolve.Exchanger
	// Way is how it is asked; nil for the prober's own.
	Way *Way
	// Traits are those its exchangers show; they are its addresses' too.
	Traits finding.Traits
	// Acceptances are what is known of its exchangers by this way, from before.
	Acceptances []Acceptance
	// Takes tells that its operator is known to take mail for others.
	Takes bool
	// Lanes is how many sessions its operator may see at a time, and so each address of
	// its exchangers.
	Lanes int
	// PerSession is how many questions a session may have, 0: as many as usual.
	PerSession int
	// Proven is how many questions its operator has answered since it complained last.
	Proven int
	// Longest is how many questions of a session it has answered without a complaint, the most.
	Longest   int
	Questions []Question
}

// Hosts returns the names of the exchangers.
func (d Domain) Hosts() []string { return resolve.Domain{Exchangers: d.Exchangers}.Hosts() }

// Parcel is a bounded handful of addresses, probed and recorded as one.
type Parcel struct {
	Domains []Domain
	// Lanes is how many sessions its operator may see from us at a time; 0 and 1
	// are one.
	Lanes int
	// Patient parcels wait longer for replies from round to round: their hosts were
	// silent before.
	Patient bool
	// Urgent parcels are waited for: they get the next place at a host.
	Urgent bool
}

// Result is a concluded question.
type Result struct {
	Question
	Domain  string
	Verdict finding.Verdict
	// Hint is how long the host asked us to stay away, of one that is postponed;
	// zero: it did not say.
	Hint time.Duration
	// BestCause is set where the answer is a backup exchanger's: why the best one gave
	// none.
	BestCause finding.Cause
}

// Outcome is what became of a parcel. Every question of the parcel is in
// exactly one of Results, Postponed and Unasked.
type Outcome struct {
	Results []Result
	// Postponed want another round; their verdict stands if there is none.
	Postponed []Result
	// Unasked were not reached before the time was up.
	Unasked       []Result
	Conversations []Conversation
	// Acceptances are what was learnt of the domains' exchangers.
	Acceptances []Acceptance
	Seen        map[Source]pace.Seen
}

// Of returns what was learnt of the exchangers of a domain.
func (o Outcome) Of(domain string) (out []Acceptance) {
	for _, a := range o.Acceptances {
		if a.Domain == domain {
			out = append(out, a)
		}
	}
	return out
}

// Answered counts the addresses that a host answered about.
func (o Outcome) Answered() (n int) {
	for _, s := range o.Seen {
		n += s.Answered
	}
	return n
}

// Source is who was asked by which route: to an operator each route is another
// client.
type Source struct {
	Operator string
	Route    int64
}

// Conversation is the record of one session, without the questions about
// mailboxes.
type Conversation struct {
	Exchanger string
	Addr      string
	Identity  smtp.Identity
	// Route is the name of the route, "" for the only one there is.
	Route     string
	At        time.Time
	Encrypted bool
	Lines     []smtp.Line
	// Ended says why the session ended early; "" for a session that ended
	// because we had asked all we wanted.
	Ended string
}

// Probe asks about the parcel until all is answered or ctx ends.
func (p *Prober) Probe(ctx context.Context, parcel Parcel) Outcome {
	var (
		mu   sync.Mutex
		wg   sync.WaitGroup
		out  = Outcome{Seen: map[Source]pace.Seen{}}
		free = make(chan struct{}, max(1, p.Width))
		// A fault of ours ends the parcel, and not the service.
		faults fault.Keeper
	)
	for source, domains := range p.bySource(parcel.Domains) {
		free <- struct{}{}
		wg.Go(func() {
			defer func() { <-free }()
			defer faults.Keep()
			one := p.visitOperator(ctx, domains, parcel)
			mu.Lock()
			defer mu.Unlock()
			out.merge(source, one)
		})
	}
	wg.Wait()
	faults.Throw()
	return out
}

func (p *Prober) bySource(domains []Domain) map[Source][]Domain {
	m := map[Source][]Domain{}
	for _, d := range domains {
		if d.Way == nil {
			d.Way = &p.Way
		}
		s := Source{d.Operator, d.Way.Route}
		m[s] = append(m[s], d)
	}
	return m
}

// visitOperator visits the operator's hosts by one route, one after the other:
// an operator sees one connection of a lane at a time.
func (p *Prober) visitOperator(ctx context.Context, domains []Domain, parcel Parcel) visit {
	all := visit{out: Outcome{Seen: map[Source]pace.Seen{}}}
	for _, group := range byExchangers(domains) {
		v := visit{prober: p, lanes: parcel.Lanes, patient: parcel.Patient, urgent: parcel.Urgent, way: group[0].Way, domains: group, exchangers: group[0].Exchangers}
		v.run(ctx)
		all.absorb(v)
	}
	return all
}

// byExchangers groups domains with the same exchangers, asked as the same
// identity, in a stable order.
func byExchangers(domains []Domain) [][]Domain {
	index := map[string]int{}
	var groups [][]Domain
	for _, d := range domains {
		var key strings.Builder
		key.WriteString(d.Way.Identity.Name + " " + d.Way.Identity.Sender + " ")
		for _, x := range d.Exchangers {
			key.WriteString(x.Host + " ")
		}
		i, ok := index[key.String()]
		if !ok {
			i = len(groups)
			index[key.String()] = i
			groups = append(groups, nil)
		}
		groups[i] = append(groups[i], d)
	}
	return groups
}

// merge takes over what a visit brought; conversations are numbered anew.
func (o *Outcome) merge(s Source, v visit) {
	shift := len(o.Conversations)
	for _, list := range []*[]Result{&v.out.Results, &v.out.Postponed, &v.out.Unasked} {
		renumber(*list, shift)
	}
	takeOver(&o.Results, v.out.Results)
	takeOver(&o.Postponed, v.out.Postponed)
	takeOver(&o.Unasked, v.out.Unasked)
	takeOver(&o.Conversations, v.out.Conversations)
	for _, a := range v.out.Acceptances {
		for i := range a.MadeUp {
			a.MadeUp[i].Conversation += shift
		}
		o.Acceptances = append(o.Acceptances, a)
	}
	seen := o.Seen[s]
	seen.Add(v.seen)
	o.Seen[s] = seen
}

// takeOver appends a list that nobody else needs any more: most visits are the only ones of their parcel.
func takeOver[T any](to *[]T, from []T) {
	if len(*to) == 0 {
		*to = from
		return
	}
	*to = append(*to, from...)
}

// renumber shifts the conversation numbers of the answers got in this parcel:
// those whose Parcel is not filled in yet.
func renumber(list []Result, shift int) {
	for i := range list {
		for j := range list[i].Asked {
			if a := &list[i].Asked[j]; a.Parcel == 0 {
				a.Conversation += shift
			}
		}
	}
}

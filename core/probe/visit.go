package probe

import (
	"context"
	"slices"
	"time"

	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/reply"
	"varnet/core/resolve"
	"varnet/core/say"
	"varnet/core/smtp"
)

// visit asks the exchangers shared by a group of domains, session after
// session, until every item is answered or given up.
type visit struct {
	prober     *Prober
	lanes      int
	patient    bool
	urgent     bool
	way        *Way
	domains    []Domain
	exchangers []resolve.Exchanger
	sites      []*site
	limits     smtp.Limits
	start      time.Time
	answers    int
	out        Outcome
	seen       pace.Seen
	read       reply.Reader
	// best is the preference of the best exchanger; spoke tells that one of that
	// preference came as far as a question; bestFailure is why it did not.
	best        uint16
	spoke       bool
	mute        bool // it answers nothing, though it speaks
	bestFailure *smtp.Failure
	// survived is how many questions an exchanger answered in a session that it then
	// broke off; later sessions with it ask no more.
	survived map[string]int
	// letIn tells that the host took somebody whom it had put off before, so its
	// greylisting is by recipient: each must be introduced.
	letIn bool
	// end is why no more is asked now.
	end stop
	// utf8 tells that some mailbox needs SMTPUTF8.
	utf8 bool
}

// stop is why a session's asking ends before all is asked.
type stop int

const (
	goOn       stop = iota
	complained      // the host says that we ask too much or too fast
	putOff          // it greylists
	refusedUs       // it refuses us at one mailbox after the other
	wantsTLS        // it wants the session encrypted
	changed         // its mood changed in the middle: what it says now is about us
)

// site is one domain of the visit, with the answers so far.
type site struct {
	*Domain
	items      []*item // the listed ones
	madeUp     []*item
	postmaster *item // asked where every listed one was refused
	doubts     int   // sessions held because its answers do not fit together
}

// item is one mailbox to ask about.
type item struct {
	site    *site
	kind    kind
	q       *Question // of a listed one
	mailbox string
	reply   smtp.Reply
	meaning reply.Meaning
	asked   Asked
	state   state
	// exchanger is the host that answered; backup tells that a better one is named.
	exchanger string
	backup    bool
	// contrast tells a refusal that real mailboxes do not get and made-up ones do, in
	// the same session: it is about the mailbox, whatever its words.
	contrast bool
	// void tells an answer that came when the host had changed its mood.
	void bool
	// unproved counts the sessions whose yes, or no, nothing later vouched for.
	unproved int
}

// kind is why a mailbox is asked about.
type kind int

const (
	listed     kind = iota // it is in question
	madeUp                 // it does not exist
	postmaster             // it exists, as RFC 5321 section 4.5.1 has it
	witness                // it was taken before; still?
)

type state int

const (
	waiting  state = iota
	answered       // reply and meaning hold
	failed         // meaning holds; the host never answered
	untaken        // the host takes no such address (SMTPUTF8)
)

func (v *visit) run(ctx context.Context) {
	v.start = time.Now()
	v.limits = v.prober.Limits
	v.limits.Proven, v.limits.Longest = v.domains[0].Proven, v.domains[0].Longest
	if q := v.domains[0].PerSession; q > 0 {
		v.limits.Questions = min(v.limits.Questions, q)
	}
	if v.patient {
		v.limits.Waits = v.limits.Waits.Patient(rounds(v.domains), v.prober.LastWait)
	}
	v.read = reply.Reader{Helo: v.way.Identity.Name, Sender: v.way.Identity.Sender}
	v.best, v.survived = best(v.exchangers), map[string]int{}
	v.ask(ctx, v.prepare())
	for v.end == goOn && ctx.Err() == nil {
		doubted := v.doubt()
		if len(doubted) == 0 {
			break
		}
		v.ask(ctx, doubted)
	}
	v.conclude(time.Now())
}

// prepare lists the mailboxes in question, those of a domain together. Those that a
// host knows from an earlier round come first: if it lets them in now, it greylists
// by recipient.
func (v *visit) prepare() (queue []*item) {
	for i := range v.domains {
		s := &site{Domain: &v.domains[i]}
		v.sites = append(v.sites, s)
		items := make([]item, len(s.Questions))
		for j := range s.Questions {
			q := &s.Questions[j]
			items[j] = item{site: s, q: q, mailbox: q.Address.Mailbox()}
			s.items = append(s.items, &items[j])
			v.utf8 = v.utf8 || q.Address.International()
		}
		queue = append(queue, s.items...)
	}
	slices.SortStableFunc(queue, func(a, b *item) int { return boolInt(b.introduced()) - boolInt(a.introduced()) })
	return queue
}

// introduced reports whether the host has heard of the mailbox in an earlier round.
func (it *item) introduced() bool {
	return it.q != nil && slices.ContainsFunc(it.q.Asked, func(a Asked) bool { return a.Reply != "" })
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// maxIdle is how many sessions in a row may bring no answer at all.
const maxIdle = 2

// ask works the queue off. Sessions that bring answers are followed by more; a
// host that breaks off without any gets maxIdle chances before the rest of the
// queue is given up with the last failure's meaning.
func (v *visit) ask(ctx context.Context, queue []*item) {
	idle := 0
	for n := 0; len(queue) > 0 && ctx.Err() == nil && v.end == goOn; n++ {
		if n > 0 && v.domains[0].PerSession > 0 {
			pause(ctx, pace.BetweenSessions)
		}
		t, failure := v.connect(ctx, queue)
		if failure != nil {
			if !v.crowded(failure) {
				v.giveUp(queue, failure, t.number)
			}
			return
		}
		v.seen.Sessions++
		queue = t.run(queue)
		if len(t.asked) > 0 {
			idle = 0
		} else {
			idle++
		}
		if v.end == wantsTLS && v.prober.tls.want(t.host) {
			v.end = goOn // the next session is encrypted
			continue
		}
		failure = t.session.Failure()
		if failure == nil && idle < maxIdle {
			continue
		}
		if failure == nil {
			v.giveUpUnproved(queue)
			return
		}
		v.count(failure)
		v.mute = v.answers == 0 && !wantsRest(failure) && v.hasBackup()
		// Some hosts throw away the answers to a window when they break off.
		v.limits.Window = 1
		v.tryLast(t.host)
		if wantsRest(failure) || idle >= maxIdle {
			if idle > 0 {
				v.giveUp(queue, failure, t.number)
			}
			return
		}
	}
	if len(queue) > 0 {
		v.putOffRest(queue)
	}
}

// pause waits, or until ctx ends.
func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// hasBackup reports whether a less preferred exchanger is named.
func (v *visit) hasBackup() bool {
	return slices.ContainsFunc(v.exchangers, func(x resolve.Exchanger) bool { return x.Preference > v.best && len(x.Addrs) > 0 })
}

// crowded reports a host that has no room for one more session of ours while it has
// others: nothing was learnt about the mailboxes, which lose nothing by it and are
// asked about when fewer sessions are open.
func (v *visit) crowded(f *smtp.Failure) bool {
	if f.Trouble == smtp.Crowded {
		return true
	}
	m, ok := v.failureMeaning(f)
	return ok && v.lanes > 1 && f.Trouble == smtp.Refused && m.Throttles()
}

// tryLast puts an exchanger that broke off behind the others of its preference.
func (v *visit) tryLast(host string) {
	at := slices.IndexFunc(v.exchangers, func(x resolve.Exchanger) bool { return x.Host == host })
	if at < 0 {
		return
	}
	x := v.exchangers[at]
	v.exchangers = slices.Delete(slices.Clone(v.exchangers), at, at+1)
	for at < len(v.exchangers) && v.exchangers[at].Preference == x.Preference && len(v.exchangers[at].Addrs) > 0 {
		at++
	}
	v.exchangers = slices.Insert(v.exchangers, at, x)
}

// wantsRest reports the failure after which going on would be rude.
func wantsRest(f *smtp.Failure) bool {
	return f.Trouble == smtp.OutOfTime || f.Trouble == smtp.Refused
}

// maxDoubts is how many further sessions a doubt brings.
const maxDoubts = 4

// doubt looks for domains that may take mailboxes by chance, and lines up for each
// two made-up mailboxes of a further session: a domain that took some and refused others
// is asked on until it has refused as many made-up ones as prove that it knows its
// mailboxes; one that took made-up ones and refused a listed one, until it has taken as
// many.
func (v *visit) doubt() (queue []*item) {
	for _, s := range v.sites {
		for _, host := range s.hosts() {
			a, _ := s.acceptance(host, v.way.Route, v.start)
			takesAny := a.Accepts == AcceptsAny && s.tally(host).refused > 0 && len(a.MadeUp) < Proof
			if !takesAny && !v.byChance(s, host) {
				continue
			}
			if s.doubts++; s.doubts <= maxDoubts {
				queue = append(queue, s.invent(host), s.invent(host))
			}
		}
	}
	return queue
}

// byChance reports whether an exchanger that refuses made-up mailboxes of the site may
// answer by chance, for all that is known.
func (v *visit) byChance(s *site, exchanger string) bool {
	a, _ := s.acceptance(exchanger, v.way.Route, v.start)
	// proof counts through all items of the site, and is never more than Proof.
	return a.Accepts == AcceptsKnown && a.Refused < Proof && a.Refused < s.proof(exchanger)
}

// hosts lists the exchangers that answered about the site.
func (s *site) hosts() (hosts []string) {
	for _, list := range [][]*item{s.items, s.madeUp} {
		for _, it := range list {
			if it.state == answered && !slices.Contains(hosts, it.exchanger) {
				hosts = append(hosts, it.exchanger)
			}
		}
	}
	return hosts
}

// tally counts the listed mailboxes that an exchanger took and refused.
func (s *site) tally(exchanger string) (n tally) {
	for _, it := range s.items {
		if it.exchanger == exchanger {
			n.taken += it.countIf(reply.Accepted)
			n.refused += it.countIf(reply.Refused) + it.countIf(reply.Unclear)
		}
	}
	return n
}

// proof returns how many made-up mailboxes in a row an exchanger must refuse, by its
// answers in this visit or by all that are remembered, whichever wants more: a mailbox
// that is asked about every day must not speak for the others.
func (s *site) proof(exchanger string) int {
	now := s.tally(exchanger)
	return max(now.proof(), now.plus(s.known(exchanger)).proof())
}

func (it *item) countIf(e reply.Effect) int {
	if it.state == answered && it.meaning.Effect == e {
		return 1
	}
	return 0
}

// giveUp marks what is left of the queue with the failure's meaning. When only
// our own time was up the items stay waiting and lose nothing, unless the host
// had as long as any reply may take and never answered.
func (v *visit) giveUp(queue []*item, f *smtp.Failure, number int) {
	m, ok := v.failureMeaning(f)
	if !ok {
		if f.Trouble == smtp.NoRoute || v.answers > 0 || time.Since(v.start) < v.limits.Waits[smtp.StepRcpt] {
			return
		}
		m = silence
	}
	for _, it := range queue {
		v.leave(it, m, number, m.Why)
		v.meet(m, f.Reply.String())
		if f.Trouble == smtp.Refused {
			it.asked.Reply = say.Shorten(f.Reply.String(), mostWords)
		}
	}
}

// leave gives an item up: the host never answered about it, or not so that it counts.
func (v *visit) leave(it *item, m reply.Meaning, number int, why string) {
	it.state, it.meaning = failed, m
	it.asked = Asked{Conversation: max(number, 0), At: time.Now(), Why: why}
}

var unprovedMeaning = reply.Meaning{About: reply.Moment, Effect: reply.Postponed, Cause: finding.MailboxUnclear,
	Why: "The host answered, but closed the session or changed its behaviour before the answer could be confirmed."}

// giveUpUnproved leaves the items whose answers nothing vouched for to another round.
func (v *visit) giveUpUnproved(queue []*item) {
	for _, it := range queue {
		v.leave(it, unprovedMeaning, len(v.out.Conversations)-1, unprovedMeaning.Why)
	}
}

// putOffRest leaves to another time what is not asked because of how the host took
// the questions before.
func (v *visit) putOffRest(queue []*item) {
	number := len(v.out.Conversations) - 1
	switch v.end {
	case complained, changed:
		if v.answers > 0 {
			return // they stay waiting and lose nothing
		}
		m := reply.Meaning{About: reply.Us, Effect: reply.Postponed, Cause: finding.ExchangerThrottles}
		for _, it := range queue {
			v.leave(it, m, number, "Not asked: the host had said before that we ask too much or too fast.")
		}
	case putOff:
		m := reply.Meaning{About: reply.Moment, Effect: reply.Postponed, Cause: finding.ExchangerPostponed}
		for _, it := range queue {
			v.leave(it, m, number, "Not asked: the host was putting strangers off (greylisting), and may let them in next time.")
		}
	case refusedUs:
		m := reply.Meaning{About: reply.Us, Effect: reply.Refused, Cause: finding.ExchangerBlocksUs}
		for _, it := range queue {
			v.meet(m, "")
			v.leave(it, m, number, "Not asked: the host had refused us at the mailboxes before.")
		}
	case wantsTLS:
		for _, it := range queue {
			v.leave(it, troubles[smtp.NoTLS], number, troubles[smtp.NoTLS].Why)
		}
	}
}

// mostWords is how many bytes of a reply are kept.
const mostWords = 600

// meet counts what was met at one mailbox.
func (v *visit) meet(m reply.Meaning, words string) {
	v.seen.Asked++
	switch {
	case m.About != reply.Us:
	case m.Effect == reply.Postponed:
		v.seen.Throttled++
	case m.Cause == finding.ExchangerBlocksUs:
		v.seen.Blocked++
		if words != "" {
			v.seen.Words = say.Shorten(words, mostWords)
		}
	}
}

// heed remembers how long a host that complains of us asks us to stay away.
func (v *visit) heed(m reply.Meaning, r smtp.Reply) {
	if m.Throttles() {
		v.seen.Hint = max(v.seen.Hint, reply.Hint(r))
	}
}

func (v *visit) count(f *smtp.Failure) {
	if f.Trouble == smtp.NoRoute {
		v.seen.NoWay++
		v.seen.NoWaySays = f.Err.Error()
	}
	if f.Trouble == smtp.Crowded {
		v.seen.Throttled++
		v.seen.Failed++
	}
	if m, ok := v.failureMeaning(f); ok {
		v.seen.Failed++
		if m.Throttles() {
			v.seen.Throttled++
			v.heed(m, f.Reply)
		}
	}
}

// absorb takes over another visit of the same operator.
func (v *visit) absorb(w visit) {
	v.out.merge(Source{}, w)
	v.seen.Add(w.seen)
}

package probe

import (
	"context"
	"time"

	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/reply"
	"varnet/core/resolve"
	"varnet/core/smtp"
)

// visit asks the exchangers shared by a group of domains, session after
// session, until every item is answered or given up.
type visit struct {
	prober     *Prober
	lanes      int
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
	// utf8 tells that some mailbox needs SMTPUTF8.
	utf8 bool
}

// site is one domain of the visit, with the answers so far.
type site struct {
	*Domain
	items      []*item // the real ones
	madeUp     []*item
	postmaster *item // asked where every real one was refused
}

// item is one mailbox to ask about.
type item struct {
	site    *site
	q       *Question // nil for a made-up mailbox
	mailbox string
	reply   smtp.Reply
	meaning reply.Meaning
	asked   Asked
	state   state
	// exchanger is the host that answered.
	exchanger string
	// doubted is a yes of a session that ended in saying yes to anything.
	doubted bool
}

type state int

const (
	waiting  state = iota
	answered       // reply and meaning hold
	failed         // meaning holds; the host never answered
	untaken        // the host takes no such address (SMTPUTF8)
)

func (v *visit) run(ctx context.Context) {
	v.start = time.Now()
	v.out.Manners = map[string]Manner{}
	v.limits = v.prober.Limits
	v.ask(ctx, v.prepare(v.start))
	v.ask(ctx, v.doubt())
	v.ask(ctx, v.askPostmasters())
	v.conclude(time.Now())
}

// maxIdle is how many sessions in a row may bring no answer at all.
const maxIdle = 2

// ask works the queue off. Sessions that bring answers are followed by more; a
// host that breaks off without any gets maxIdle chances before the rest of the
// queue is given up with the last failure's meaning.
func (v *visit) ask(ctx context.Context, queue []*item) {
	idle := 0
	for len(queue) > 0 && ctx.Err() == nil {
		session, number, failure := v.connect(ctx, queue)
		if failure != nil {
			if !v.crowded(failure) {
				v.giveUp(queue, failure, number)
			}
			return
		}
		v.seen.Sessions++
		queue = v.dropUntaken(session, queue)
		asked, before := queue, len(queue)
		queue = v.askSession(session, queue, number)
		v.close(session, number)
		failure = session.Failure()
		if failure != nil && failure.Trouble == smtp.OutOfStep {
			queue = v.forget(asked)
		}
		if len(queue) < before {
			idle = 0
		} else {
			idle++
		}
		if failure == nil {
			continue
		}
		v.count(failure)
		// Some hosts throw away the answers to a window when they break off.
		v.limits.Window = 1
		v.tryLast(v.out.Conversations[number].Exchanger)
		if wantsRest(failure) || idle >= maxIdle {
			if idle > 0 {
				v.giveUp(queue, failure, number)
			}
			return
		}
	}
}

// crowded tells a host that has no room for one more session of ours while it has
// others: nothing was learnt about the mailboxes, which lose nothing by it and are
// asked about when fewer sessions are open.
func (v *visit) crowded(f *smtp.Failure) bool {
	m, ok := failureMeaning(f)
	return ok && v.lanes > 1 && f.Trouble == smtp.Refused && m.Cause == finding.ExchangerThrottles
}

// tryLast puts an exchanger that broke off behind the others.
func (v *visit) tryLast(host string) {
	var last, others []resolve.Exchanger
	for _, x := range v.exchangers {
		if x.Host == host {
			last = append(last, x)
		} else {
			others = append(others, x)
		}
	}
	v.exchangers = append(others, last...)
}

// forget takes back the answers of a session that was out of step.
func (v *visit) forget(asked []*item) []*item {
	for _, it := range asked {
		if it.state == answered {
			v.answers--
			it.state = waiting
		}
	}
	return asked
}

// wantsRest tells the failure after which going on would be rude.
func wantsRest(f *smtp.Failure) bool {
	return f.Trouble == smtp.OutOfTime || f.Trouble == smtp.Refused
}

// askSession asks as much of the queue as the session takes and gives back the
// rest.
func (v *visit) askSession(s *smtp.Session, asked []*item, number int) (queue []*item) {
	n := min(max(s.Room()-1, 0), len(asked)) // one question is kept for watchEnd
	done := v.askSome(s, asked[:n], number)
	queue = asked[done:]
	if s.Failure() == nil && len(queue) > 0 && blocked(asked[:done]) {
		queue = v.refuseRest(queue, asked, number)
	}
	v.watchEnd(s, asked[:done], number)
	return queue
}

// askSome asks about some items in one go and counts those that were answered.
func (v *visit) askSome(s *smtp.Session, items []*item, number int) (done int) {
	for i, a := range s.Ask(mailboxes(items)) {
		if !a.Answered {
			break
		}
		words := a.Reply.String()
		items[i].take(a, words, v.read.Read(a.Reply, words), number, v.out.Conversations[number].Exchanger)
		v.meet(items[i].meaning, words)
		v.heed(items[i].meaning, a.Reply)
		done++
	}
	v.answers += done
	return done
}

func mailboxes(items []*item) []string {
	out := make([]string, len(items))
	for i, it := range items {
		out[i] = it.mailbox
	}
	return out
}

// blocked tells a host that refuses us at every recipient: the last three
// answers were refusals of us.
func blocked(done []*item) bool {
	if len(done) < 3 {
		return false
	}
	for _, it := range done[len(done)-3:] {
		if it.meaning.About != reply.Us || it.meaning.Effect != reply.Refused {
			return false
		}
	}
	return true
}

// refuseRest marks what is left with the refusal of us that went before: to ask
// on would be rude, and bring nothing.
func (v *visit) refuseRest(queue, asked []*item, number int) []*item {
	last := asked[len(asked)-len(queue)-1]
	for _, it := range queue {
		v.meet(last.meaning, "")
		it.state, it.meaning = failed, last.meaning
		it.asked = Asked{Conversation: number, At: time.Now(), Why: "Not asked: the host had refused us at the mailboxes before. " + last.meaning.Why}
	}
	return nil
}

// manyRefusals is from how many refusals on a session is held against one more
// made-up mailbox before its yes is believed: some hosts take anything then.
const manyRefusals = 4

// watchEnd asks at the end of a session with many refusals about one more
// made-up mailbox. If that is taken where the session refused others, every yes
// of the session is doubted.
func (v *visit) watchEnd(s *smtp.Session, done []*item, number int) {
	refused := 0
	var last *item
	for _, it := range done {
		refused += it.countIf(reply.Refused)
		if it.countIf(reply.Accepted) > 0 {
			last = it
		}
	}
	if refused < manyRefusals || last == nil || s.Failure() != nil {
		return
	}
	guard := &item{site: last.site, mailbox: madeUpLocal() + "@" + last.site.Name}
	if v.askSome(s, []*item{guard}, number) == 0 || guard.meaning.Effect != reply.Accepted {
		return
	}
	for _, it := range done {
		it.doubted = it.countIf(reply.Accepted) > 0
	}
}

func (it *item) take(a smtp.Answer, words string, m reply.Meaning, conversation int, exchanger string) {
	it.state, it.reply, it.meaning, it.exchanger = answered, a.Reply, m, exchanger
	it.asked = Asked{Conversation: conversation, At: a.At,
		TookMS: float64(a.Took.Microseconds()) / 1000, Reply: clip(words), Why: m.Why}
}

// dropUntaken sets aside what this host cannot be asked about.
func (v *visit) dropUntaken(s *smtp.Session, queue []*item) []*item {
	if !v.utf8 {
		return queue
	}
	kept := queue[:0:0]
	for _, it := range queue {
		if s.Takes(it.mailbox) {
			kept = append(kept, it)
			continue
		}
		it.state = untaken
		it.asked = Asked{Conversation: len(v.out.Conversations) - 1, At: time.Now(),
			Why: "The host does not offer SMTPUTF8 (RFC 6531), so it was not asked."}
	}
	return kept
}

// giveUp marks what is left of the queue with the failure's meaning. When only
// our own time was up the items stay waiting and lose nothing, unless the host
// had as long as any reply may take and never answered.
func (v *visit) giveUp(queue []*item, f *smtp.Failure, number int) {
	m, ok := failureMeaning(f)
	if !ok {
		if f.Trouble == smtp.NoRoute || v.answers > 0 || time.Since(v.start) < v.limits.Waits[smtp.StepRcpt] {
			return
		}
		m = silence
	}
	for _, it := range queue {
		it.state, it.meaning = failed, m
		v.meet(m, f.Reply.String())
		it.asked = Asked{Conversation: number, At: time.Now(), Why: m.Why}
		if f.Trouble == smtp.Refused {
			it.asked.Reply = clip(f.Reply.String())
		}
	}
}

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
			v.seen.Words = clip(words)
		}
	}
}

// heed remembers how long a host that complains of us asks us to stay away.
func (v *visit) heed(m reply.Meaning, r smtp.Reply) {
	if m.About == reply.Us && m.Effect == reply.Postponed {
		v.seen.Hint = max(v.seen.Hint, reply.Hint(r))
	}
}

func (v *visit) count(f *smtp.Failure) {
	if f.Trouble == smtp.NoRoute {
		v.seen.NoWay++
		v.seen.NoWaySays = f.Err.Error()
	}
	if m, ok := failureMeaning(f); ok {
		v.seen.Failed++
		if m.About == reply.Us && m.Effect == reply.Postponed {
			v.seen.Throttled++
			v.heed(m, f.Reply)
		}
	}
}

// absorb takes over another visit of the same operator.
func (v *visit) absorb(w visit) {
	if v.out.Manners == nil {
		v.out.Manners, v.out.Seen = map[string]Manner{}, map[Source]pace.Seen{}
	}
	v.out.merge(Source{}, w)
	v.seen.Add(w.seen)
}

func clip(s string) string {
	if len(s) > 600 {
		return s[:600] + "…"
	}
	return s
}

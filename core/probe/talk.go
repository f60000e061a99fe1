package probe

import (
	"math/rand/v2"
	"slices"
	"time"

	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/reply"
	"varnet/core/say"
	"varnet/core/smtp"
)

// talk is one session with one exchanger: which mailboxes it is asked about, in which
// order, and what its answers are worth.
//
// Real mailboxes are asked first. A yes counts only if the host refuses a made-up
// mailbox of the same domain in the same session, and goes on refusing what it should
// refuse after that yes; a no counts only if the host, where it took anybody, goes on
// taking after it. So an honest domain is asked about one or two made-up mailboxes a
// session, and a host that changes its mood in the middle teaches nothing from there on.
type talk struct {
	*visit
	session *smtp.Session
	seat    *pace.Seat
	number  int // of the conversation
	host    string
	backup  bool
	// chosen are the items of the session; first are those that go first, with made-up
	// ones among them, and others what comes after.
	chosen, first, others []*item
	// again are answers that the next session is to confirm.
	again []*item
	asked []*item // in the order of the answers
	// invented counts the made-up mailboxes of each domain.
	invented map[*site]int
	greyed   int // put off as strangers
	us       int // refusals of us, or in words that say little, in a row
}

// run asks as much of the queue as the session takes, ends it, and returns what is
// left: what was not asked, and what must be asked again.
func (t *talk) run(queue []*item) []*item {
	if t.utf8 {
		queue = t.dropUntaken(queue)
		t.plan(queue)
	}
	chosen, rest := t.chosen, queue[len(t.chosen):]
	rest = append(t.stages(chosen, len(rest) > 0), rest...)
	t.close()
	f := t.session.Failure()
	if f != nil && f.Trouble == smtp.OutOfStep {
		return t.forget(queue)
	}
	if f != nil {
		t.survived[t.host] = max(1, len(t.asked))
	} else if t.end == goOn {
		t.seen.Longest = max(t.seen.Longest, len(t.asked))
		t.limits.Longest = max(t.limits.Longest, len(t.asked))
	}
	return append(t.weigh(), rest...)
}

// choose takes as many of the queue as the session has room for, with the made-up
// mailboxes that go with them.
func (t *talk) choose(queue []*item) (chosen, rest []*item) {
	room := t.limits.Questions - 2 // for what closes the session
	survived := t.survived[t.host]
	if survived > 0 {
		room = min(room, survived)
	}
	// Each domain brings a made-up mailbox, whose refusal counts among the session's.
	domains := max(1, t.limits.Refusals*2/3)
	seen := map[*site]bool{}
	n, cost := 0, 0
	for n < len(queue) {
		one, s := 1, queue[n].site
		if new := !seen[s]; new && queue[n].kind == listed {
			one++
			if n > 0 && (survived > 0 || len(seen) >= domains) {
				break
			}
			seen[s] = true
		}
		if n > 0 && cost+one > room {
			break
		}
		cost, n = cost+one, n+1
	}
	return queue[:n], queue[n:]
}

// plan chooses what the session asks about, and what of it goes first.
func (t *talk) plan(queue []*item) {
	t.drop(t.first)
	t.invented = map[*site]int{}
	t.chosen, _ = t.choose(queue)
	t.first, t.others = t.opening(t.chosen)
}

// drop takes made-up mailboxes back that nobody was asked about.
func (t *talk) drop(items []*item) {
	for _, it := range items {
		if it.kind == madeUp && it.state == waiting {
			t.invented[it.site]--
			it.site.madeUp = slices.DeleteFunc(it.site.madeUp, func(x *item) bool { return x == it })
		}
	}
}

// mostMadeUp is about how many made-up mailboxes of a domain a session asks at most.
const mostMadeUp = 2

// invent returns one more made-up mailbox of a domain; none if the session has asked
// about enough.
func (t *talk) invent(s *site) []*item {
	if t.invented[s] == mostMadeUp {
		return nil
	}
	t.invented[s]++
	return []*item{s.invent(t.host)}
}

// stages asks about the chosen ones. First comes one of each domain that nothing is
// known of; then, where it was taken, a made-up mailbox before the others; where a
// yes came only later, one behind it. Domains that are known get theirs at a place
// nobody can foresee. What was not asked comes back.
func (t *talk) stages(chosen []*item, more bool) (left []*item) {
	left = t.askAll(t.first, len(t.others) == 0)
	var second []*item
	for i, it := range t.others {
		if t.goesOn() && it.kind == listed && (i == 0 || t.others[i-1].site != it.site) && t.wantsMadeUp(it.site) {
			second = append(second, t.invent(it.site)...)
		}
		second = append(second, it)
	}
	left = append(left, t.askAll(second, true)...)
	t.drop(second)
	if t.survived[t.host] == 1 {
		return left // made-up mailboxes get sessions of their own
	}
	for n := 0; n < 2 && t.goesOn(); n++ { // where the first made-up one is taken, a second
		var behind, doubted []*item
		for _, s := range t.sitesOf(chosen) {
			if t.wantsMadeUp(s) {
				behind = append(behind, t.invent(s)...)
			} else if n == 0 && t.byChance(s, t.host) {
				doubted = append(doubted, t.invent(s)...)
			}
		}
		behind = append(behind, doubted...)
		if len(behind) >= fewBehind {
			behind = append(behind, t.witness(nil)...)
		}
		t.askBehind(behind, n == 0 && t.oneAlone())
	}
	t.closing(chosen, more || len(left) > 0)
	return left
}

// atTheEnd is how many questions may go beyond the session's limits for each thing
// that is to be made sure of.
const atTheEnd = 2

// askBehind asks about mailboxes behind those in question, the first of them also when
// the session is full; with the last of the session goes QUIT.
func (t *talk) askBehind(items []*item, last bool) {
	defer t.drop(items)
	if !t.goesOn() {
		return
	}
	t.askAll(items, last)
	for n, it := range items {
		if n < atTheEnd && it.state == waiting && t.end == goOn {
			t.askLast(it)
		}
	}
}

// opening parts the chosen ones into those that go first, one of each domain that is
// not known, and all of those that are, each with a made-up one among them; and the
// others.
func (t *talk) opening(chosen []*item) (first, others []*item) {
	begun := map[*site]bool{} // those put off before and those that were not come apart
	for i := 0; i < len(chosen); {
		j := i
		for j < len(chosen) && chosen[j].site == chosen[i].site {
			j++
		}
		group := chosen[i:j]
		switch s := group[0].site; {
		case begun[s]:
			others = append(others, group...)
		case group[0].kind != listed || t.survived[t.host] > 0:
			first = append(first, group...)
		case s.known(t.host).good(t.start):
			// Alone in the session, it is asked about one where the session ends, mostly.
			if alone := len(group) == len(chosen); !alone || rand.IntN(4) == 0 {
				group = slices.Insert(slices.Clone(group), 1+rand.IntN(len(group)), t.invent(s)...)
			}
			first = append(first, group...)
		default:
			first, others = append(first, group[0]), append(others, group[1:]...)
		}
		begun[group[0].site] = group[0].kind == listed
		i = j
	}
	return first, others
}

// wantsMadeUp reports whether a made-up mailbox of the domain would tell something: it
// took a real one, or refused one in words that say little, and no made-up one was
// answered about in this session; or it took the only one.
func (t *talk) wantsMadeUp(s *site) bool {
	needed := false
	for _, it := range t.asked {
		needed = needed || it.site == s && it.kind == listed && (it.meaning.Effect == reply.Accepted || it.softNo() || it.vague() || it.meaning.Greylists())
	}
	told := t.madeUp(s)
	all := told.taken + told.refused + told.soft
	before := s.known(t.host)
	sure := before.good(t.start) && before.Accepts == AcceptsAny
	return needed && all < 2 && (all == 0 || told.taken == 1 && !sure)
}

// madeUpTold counts the made-up mailboxes of a domain that a session took, refused and put
// off.
type madeUpTold struct{ taken, refused, soft int }

// madeUp counts the made-up mailboxes of the site in this session.
func (t *talk) madeUp(s *site) (n madeUpTold) {
	for _, it := range t.asked {
		switch {
		case it.site != s || it.kind != madeUp || it.void || it.state != answered:
		case it.meaning.Effect == reply.Accepted:
			n.taken++
		case it.reply.Permanent() || it.saysNo():
			n.refused++
		default:
			n.soft++
		}
	}
	return n
}

// unplain reports a refusal for good that does not plainly speak of the mailbox.
func (it *item) unplain() bool {
	return it.reply.Permanent() && !it.meaning.Throttles() && (it.meaning.Effect == reply.Unclear || it.meaning.About == reply.Us)
}

// vague reports a refusal for good that does not say whom it is about.
func (it *item) vague() bool { return it.reply.Permanent() && it.meaning.Vague() }

// oneAlone reports whether the session is over with a made-up mailbox behind: it is about one alone, which was taken,
// of a domain that is known to know its mailboxes. Somebody waits for that, mostly. Where the made-up one is taken
// against all that is known the next session asks.
func (t *talk) oneAlone() bool {
	if len(t.asked) != 1 || len(t.chosen) != 1 {
		return false
	}
	it, known := t.asked[0], t.asked[0].site.known(t.host)
	return it.countIf(reply.Accepted) > 0 && t.invented[it.site] == 1 && known.good(t.start) && known.Accepts == AcceptsKnown && !t.byChance(it.site, t.host)
}

// askAll asks about items and returns those in question that were not answered. After
// some refusals of us in a row it goes on only if the host still takes whom it took. Behind
// the last that are asked about come those by which they are weighed, and QUIT where they are all.
func (t *talk) askAll(items []*item, last bool) []*item {
	for len(items) > 0 && t.goesOn() {
		done := t.askSome(items, last)
		items = items[done:]
		if t.us >= manyRefusals && t.goesOn() && !t.witnessed(nil) {
			t.stopFor(t.whyRefused())
		}
		if done == 0 || t.session.Room() == 0 || t.seat.MakesRoom() {
			break
		}
	}
	return real(items)
}

// askSome asks about items until the session or hear ends it, and returns how many
// were answered.
func (t *talk) askSome(items []*item, last bool) (done int) {
	var behind []*item
	var then func() ([]string, bool)
	if last && t.survived[t.host] == 0 {
		then = func() ([]string, bool) {
			more := t.weights()
			behind = append(behind, more...)
			return mailboxes(more), t.leavesWith(more)
		}
	}
	answers, tail := t.session.AskThen(mailboxes(items), then, func(place int, a smtp.Answer) bool {
		if place >= len(items) {
			return t.hear(behind[place-len(items)], a)
		}
		return t.hear(items[place], a)
	})
	for _, a := range answers {
		if !a.Answered {
			break
		}
		done++
	}
	// A stream that ended in doubt takes answers back that were heard.
	for _, it := range items[done:] {
		t.unhear(it)
	}
	for i, a := range tail {
		if !a.Answered {
			t.unhear(behind[i])
		}
	}
	return done
}

// mostWeights is how many mailboxes weights returns at most.
const mostWeights = 2

// weights are the mailboxes by which the answers of the session are weighed: a made-up one
// of a domain that refuses such, and one that the host took, if it has refused any.
func (t *talk) weights() (items []*item) {
	if len(t.chosen) == 1 && t.invented[t.chosen[0].site] > 0 {
		return nil // the made-up one beside it is enough
	}
	for i := len(t.asked) - 1; i >= 0; i-- {
		it := t.asked[i]
		if it.kind != listed {
			continue
		}
		told, before := t.madeUp(it.site), it.site.known(t.host)
		if told.taken == 0 && (told.refused == 1 || told.refused == 0 && before.good(t.start)) {
			items = append(items, t.invent(it.site)...)
		}
		break
	}
	if yes, no := t.lasts(); yes >= 0 && (no >= 0 || t.us > 0) {
		items = append(items, t.witness(nil)...)
	}
	return items
}

// leavesWith reports whether the session is over with the mailboxes by which it is weighed: it is about one
// domain, whose host has plainly known its mailboxes so far, and both a refusal and a yes come last. Where the
// answers that are still on their way show otherwise the next session asks.
func (t *talk) leavesWith(weights []*item) bool {
	if t.oneAlone() {
		return true
	}
	if len(weights) < mostWeights || len(t.sitesOf(t.chosen)) > 1 {
		return false
	}
	s := weights[0].site
	return weights[1].site == s && !t.byChance(s, t.host) && !slices.ContainsFunc(t.asked, (*item).unplain)
}

// witness returns a mailbox that the host took, of the site if one is given, to be asked
// about again; none if it took nobody.
func (t *talk) witness(s *site) []*item {
	w := t.taken(s)
	if w == nil {
		return nil
	}
	return []*item{{site: w.site, kind: witness, mailbox: w.mailbox}}
}

// real returns the items that are in question.
func real(items []*item) (out []*item) {
	for _, it := range items {
		if it.kind == listed {
			out = append(out, it)
		}
	}
	return out
}

// askLast asks about one more mailbox, though the session may be full.
func (t *talk) askLast(it *item) bool {
	if t.session.Failure() != nil {
		return false
	}
	a := t.session.AskLast(it.mailbox)
	if a.Answered {
		t.hear(it, a)
	}
	return a.Answered
}

func (t *talk) goesOn() bool { return t.end == goOn && t.session.Failure() == nil }

// whyRefused is what it means that the host takes nobody any more: it refuses us, or
// has changed its mood if it took somebody before. A host that never took anybody and
// says little is asked on.
func (t *talk) whyRefused() stop {
	last := t.asked[len(t.asked)-1]
	switch {
	case t.taken(nil) != nil:
		return changed
	case last.vague() && last.site.postmaster == nil && t.askPostmaster(last.site) && last.site.postmaster.meaning.Effect == reply.Accepted:
		t.us = 0
		return goOn
	case last.meaning.About == reply.Us:
		return refusedUs
	}
	t.us = 0
	return goOn
}

// manyRefusals is after how many refusals of us in a row it is asked whether the host
// still takes whom it took.
const manyRefusals = 3

// hear takes an answer in; false ends the asking.
func (t *talk) hear(it *item, a smtp.Answer) bool {
	words := a.Reply.String()
	m := t.read.Read(a.Reply, words, it.mailbox)
	it.state, it.reply, it.meaning, it.exchanger, it.backup = answered, a.Reply, m, t.host, t.backup
	it.contrast, it.void = false, false
	it.asked = Asked{Conversation: t.number, At: a.At, TookMS: float64(a.Took.Microseconds()) / 1000, Reply: say.Shorten(words, mostWords), Why: m.Why}
	t.asked = append(t.asked, it)
	t.heed(m, a.Reply)
	if m.About == reply.Us && m.Effect == reply.Refused || it.vague() {
		t.us++
	} else {
		t.us = 0
	}
	switch {
	case m.Throttles():
		t.seat.Complained(a.At)
		t.seen.Bore, t.seen.AtRecipient = len(t.asked)-1, true
		t.stopFor(complained)
	case m.Cause == finding.ExchangerNeedsTLS && !t.session.Encrypted():
		t.stopFor(wantsTLS)
	case m.Greylists():
		if t.greyed++; t.greyed >= 2 && !t.letIn && t.taken(nil) == nil {
			t.stopFor(putOff)
		}
	case it.introduced() && it.q.wasPutOff():
		t.letIn = true
	}
	if t.seat.Resting(a.At) {
		t.stopFor(complained) // at another session
	}
	return t.end == goOn && t.us < manyRefusals
}

func (t *talk) stopFor(why stop) {
	if t.end == goOn {
		t.end = why
	}
}

// unhear takes an answer back.
func (t *talk) unhear(it *item) {
	for i, x := range t.asked {
		if x == it {
			t.asked = append(t.asked[:i], t.asked[i+1:]...)
			it.state = waiting
			return
		}
	}
}

// witnessed asks about a mailbox again that the host took, of the site if one is given:
// it still does if its refusals are not of us. A session that ends over it shows nothing.
func (t *talk) witnessed(s *site) bool {
	again := t.witness(s)
	switch {
	case again == nil:
		return false
	case !t.askLast(again[0]):
		return t.session.Failure() != nil || t.session.Leaving()
	case again[0].meaning.Effect != reply.Accepted:
		return false
	}
	t.us = 0
	return true
}

// taken returns a real mailbox that the host took, in this session or else in an
// earlier one of the visit; nil: none.
func (t *talk) taken(of *site) *item {
	for _, it := range t.asked {
		if it.kind == listed && it.countIf(reply.Accepted) > 0 && (of == nil || of == it.site) {
			return it
		}
	}
	for _, s := range t.sites {
		if of != nil && of != s {
			continue
		}
		for _, it := range s.items {
			if it.exchanger == t.host && it.countIf(reply.Accepted) > 0 {
				return it
			}
		}
	}
	return nil
}

func mailboxes(items []*item) []string {
	out := make([]string, len(items))
	for i, it := range items {
		out[i] = it.mailbox
	}
	return out
}

func (t *talk) sitesOf(items []*item) (sites []*site) {
	seen := map[*site]bool{}
	for _, it := range items {
		if it.kind == listed && !seen[it.site] {
			seen[it.site] = true
			sites = append(sites, it.site)
		}
	}
	return sites
}

// close ends the session and completes its record.
func (t *talk) close() {
	t.session.Close()
	refused := 0
	for _, it := range t.asked {
		refused += boolInt(it.reply.Permanent())
	}
	t.seat.Free(refused)
	c := &t.out.Conversations[t.number]
	c.Lines, c.Encrypted = t.session.Lines(), t.session.Encrypted()
	if f := t.session.Failure(); f != nil {
		c.Ended = f.Error()
	}
}

// forget takes back the answers of a session that was out of step.
func (t *talk) forget(queue []*item) []*item {
	for _, it := range t.asked {
		it.state = waiting
	}
	t.asked = nil
	t.limits.Window = 1
	return queue
}

// dropUntaken sets aside what this host cannot be asked about.
func (t *talk) dropUntaken(queue []*item) []*item {
	kept := queue[:0:0]
	for _, it := range queue {
		if t.session.Takes(it.mailbox) {
			kept = append(kept, it)
			continue
		}
		it.state = untaken
		it.asked = Asked{Conversation: t.number, At: time.Now(),
			Why: "The host does not offer SMTPUTF8 (RFC 6531), so it was not asked."}
	}
	return kept
}

package probe

import (
	"math/rand/v2"
	"slices"
	"time"

	"varnet/core/finding"
	"varnet/core/reply"
)

// fewRefused is how many listed mailboxes a host may refuse without taking anybody,
// its postmaster neither, before it is held for broken: that so many people are gone
// and nobody is left is less likely.
const fewRefused = 3

// mostPostmasters is how many postmasters a session asks about.
const mostPostmasters = 3

// closing asks what the answers so far are weighed by: about a mailbox that the host
// took before, where refusals came last; about the postmaster, where it took nobody;
// and about a made-up mailbox, where it took listed ones last.
func (t *talk) closing(chosen []*item, more bool) {
	if t.session.Failure() != nil || t.end != goOn {
		return
	}
	if slices.ContainsFunc(t.asked, func(it *item) bool { return it.kind == witness && it.countIf(reply.Accepted) == 0 }) {
		t.stopFor(changed)
		return
	}
	t.contrastSites(chosen)
	switch yes, no := t.lasts(); {
	case t.end != goOn:
	case yes >= 0 && t.madeUpBehind(yes) >= fewBehind:
		if !t.witnessed(nil) {
			t.stopFor(changed)
			return
		}
	case no <= yes:
	case more && yes >= 0 && t.askAgain(yes):
	case t.taken(nil) == nil:
		t.askPostmasters(chosen)
	case !t.witnessed(nil):
		t.stopFor(changed)
		return
	}
	if s := t.unvouched(); s != nil && t.end == goOn {
		for _, it := range t.invent(s) {
			t.askLast(it)
		}
	}
}

// fewBehind is how many refused made-up mailboxes may be the last of a session. One is:
// that a host changes its mood just there is unlikely, and the next session tells.
const fewBehind = 2

// madeUpBehind counts the made-up mailboxes that were refused behind a place.
func (t *talk) madeUpBehind(at int) (n int) {
	for _, it := range t.asked[at+1:] {
		n += boolInt(it.kind == madeUp && it.refusedForGood())
	}
	return n
}

// mostAgain is how many refusals at the end of a session are asked about again at the
// beginning of the next, which costs less than to make sure in this one.
const mostAgain = 2

// askAgain leaves the refusals behind the last yes to the next session, if they are few.
func (t *talk) askAgain(yes int) bool {
	t.again = nil
	if t.madeUpBehind(yes) > 0 {
		return false
	}
	for _, it := range t.asked[yes+1:] {
		if it.kind == listed && it.reply.Permanent() {
			t.again = append(t.again, it)
		}
	}
	if len(t.again) > mostAgain || slices.ContainsFunc(t.again, func(it *item) bool { return it.unproved > 0 }) {
		t.again = nil
	}
	return t.again != nil
}

// contrastSites asks, for domains that refused listed mailboxes in words that say
// little, about one that they took or else their postmaster.
func (t *talk) contrastSites(chosen []*item) {
	asked := 0
	for _, s := range t.sitesOf(chosen) {
		last := map[kind]int{listed: -1, madeUp: -1}
		for i, it := range t.asked {
			if it.site == s && it.vague() {
				last[it.kind] = i
			}
		}
		open := last[listed] >= 0 && !t.takesAfter(last[listed], s) || last[madeUp] >= 0 && !t.takesAfter(last[madeUp], nil)
		if !open || asked == mostPostmasters {
			continue
		}
		if asked++; t.taken(s) != nil {
			if !t.witnessed(s) {
				t.stopFor(changed)
				return
			}
		} else if s.postmaster == nil {
			t.askPostmaster(s)
		}
	}
}

// askPostmaster asks about the postmaster of a domain.
func (t *talk) askPostmaster(s *site) bool {
	s.postmaster = &item{site: s, kind: postmaster, mailbox: "postmaster@" + s.Name}
	return t.askLast(s.postmaster)
}

// lasts returns the places of the last listed mailbox that the host took and of the
// last that it refused for good; -1: none.
func (t *talk) lasts() (yes, no int) {
	yes, no = -1, -1
	for i, it := range t.asked {
		switch {
		case it.kind == madeUp:
		case it.meaning.Effect == reply.Accepted:
			yes = i
		case it.kind == listed && it.reply.Permanent() && !it.meaning.Throttles():
			no = i
		}
	}
	return yes, no
}

// askPostmasters asks about the postmasters of domains that refused every mailbox. The
// host that takes one is not broken, and not full of dead people; which refusal that
// says little means a mailbox, only the postmaster of its own domain shows.
func (t *talk) askPostmasters(chosen []*item) {
	asked := 0
	for _, s := range t.sitesOf(chosen) {
		if s.postmaster != nil || asked == mostPostmasters || !t.asksPostmaster(s) {
			continue
		}
		if asked++; !t.askPostmaster(s) {
			return
		}
	}
}

func (t *talk) asksPostmaster(s *site) bool {
	plain, vague := false, false
	for _, it := range s.items {
		if it.state == answered && it.exchanger == t.host {
			plain = plain || it.countIf(reply.Refused) > 0 && it.meaning.About == reply.Mailbox
			vague = vague || it.vague()
		}
	}
	return vague || plain && !s.Takes
}

// unvouched returns one of the domains that refuse made-up mailboxes and of which a
// listed one was taken with no refusal behind it; nil: there is none.
func (t *talk) unvouched() *site {
	var open []*site
	for i := len(t.asked) - 1; i >= 0 && !t.asked[i].refusedForGood(); i-- {
		it := t.asked[i]
		if it.kind != listed || it.countIf(reply.Accepted) == 0 {
			continue
		}
		if told := t.madeUp(it.site); told.refused > 0 && told.taken == 0 && t.invented[it.site] < mostMadeUp {
			open = append(open, it.site)
		}
	}
	if len(open) == 0 {
		return nil
	}
	return open[rand.IntN(len(open))]
}

func (it *item) refusedForGood() bool {
	return it.state == answered && !it.void && (it.reply.Permanent() && !it.meaning.Throttles() || it.kind == madeUp && it.saysNo())
}

// weigh looks over the session's answers when it has ended, and returns those that do
// not count and must be asked for again.
func (t *talk) weigh() []*item {
	w := &weighing{talk: t, brokenOff: t.end == complained || t.session.Failure() != nil || t.session.Leaving(), told: map[*site]madeUpTold{}}
	if t.end == changed {
		w.repeat = t.cutChanged()
	}
	for _, it := range t.again {
		it.state, it.unproved = waiting, it.unproved+1
		w.repeat = append(w.repeat, it)
	}
	w.mark()
	for i, it := range t.asked {
		if it.void || it.state != answered || w.leavesToOthers(i, it) {
			continue
		}
		if !it.contrast {
			t.meet(it.meaning, it.asked.Reply)
		}
		if it.kind == listed {
			w.weighListed(i, it)
		}
	}
	return w.repeat
}

// weighing is what each answer of a session that has ended is weighed by.
type weighing struct {
	*talk
	told map[*site]madeUpTold // of the domains whose made-up mailboxes were asked about
	// lastYes and lastNo are the places of the last mailbox that was taken and of the last
	// that was refused for good; -1: none.
	lastYes, lastNo int
	brokenOff       bool    // by the host, or by us before all was asked
	repeat          []*item // what must be asked again
}

// mark finds what all answers are weighed by.
func (w *weighing) mark() {
	w.lastYes, _ = w.lasts()
	if w.end == complained && w.lastYes >= 0 {
		// What a host refuses just before it complains may be its mood already.
		for _, it := range w.asked[w.lastYes+1:] {
			it.void = it.kind == madeUp && it.refusedForGood()
		}
	}
	w.lastNo = -1
	for i, it := range w.asked {
		if it.kind == madeUp {
			w.told[it.site] = w.madeUp(it.site)
		}
		if it.refusedForGood() && (w.end != complained || i < w.lastYes) {
			w.lastNo = i
		}
	}
}

// leavesToOthers sees what the words of an answer are worth beside others', and leaves a
// mailbox whose refusal says little to another session: beside others of its domain it
// may tell more.
func (w *weighing) leavesToOthers(i int, it *item) bool {
	if !it.unplain() {
		return false
	}
	switch it.kind {
	case listed:
		it.contrast = w.contrasts(i)
	case madeUp:
		it.contrast = w.takesAfter(i, nil) || w.knownContrast(it)
	}
	if it.kind != listed || it.contrast || it.unproved > 0 || w.lastYes < 0 || w.end != goOn {
		return false
	}
	it.unproved = 1
	w.askOnceMore(it)
	return true
}

// weighListed weighs the answer about a listed mailbox.
func (w *weighing) weighListed(i int, it *item) {
	switch {
	case it.meaning.Cause == finding.ExchangerNeedsTLS && w.end == wantsTLS:
		w.askOnceMore(it)
	case it.meaning.Effect == reply.Accepted:
		w.answers++
		w.seen.Took = true
		told := w.told[it.site]
		switch {
		case w.survived[w.host] == 1:
			w.madeUpAlone(it.site)
		case proven(told, i < w.lastNo):
		case told == (madeUpTold{}):
			w.unproven(it, mostUntold)
		default:
			w.unproven(it, mostUnproven)
		}
	case w.brokenOff && w.lastYes >= 0 && i > w.lastYes && it.refusedForGood():
		w.unproven(it, mostUnproven) // it may be the host's mood already
	case !it.meaning.Throttles():
		w.answers++
	}
}

// askOnceMore puts a mailbox back to be asked about again.
func (w *weighing) askOnceMore(it *item) {
	it.state = waiting
	w.repeat = append(w.repeat, it)
}

// cutChanged takes back what came when the host had changed its mood: all behind the
// last mailbox that it took.
func (t *talk) cutChanged() (again []*item) {
	t.seen.Throttled++
	t.seat.Complained(time.Now())
	yes, _ := t.lasts()
	for _, it := range t.asked[yes+1:] {
		it.void = true
		if it.kind == listed {
			it.state, it.void = waiting, false
			again = append(again, it)
		}
	}
	t.asked = t.asked[:yes+1]
	return again
}

// proven reports whether a yes counts: the host refused a made-up mailbox of the domain
// in this session, and refused something after it; or it takes anything. A made-up
// mailbox that is only put off leaves the matter open, which is an answer, too.
func proven(told madeUpTold, refusedAfter bool) bool {
	if told.taken > 0 || told.refused == 0 {
		return told.taken+told.soft > 0
	}
	return refusedAfter
}

// mostAlone is how many made-up mailboxes of a domain get sessions of their own.
const mostAlone = 4

// madeUpAlone lines up a made-up mailbox for a session of its own, for a host that
// answers one question a session.
func (w *weighing) madeUpAlone(s *site) {
	if a, _ := s.acceptance(w.host, w.way.Route, w.start); a.Accepts == AcceptsUnknown && len(s.madeUp) < mostAlone {
		w.repeat = append(w.repeat, s.invent(w.host))
	}
}

// mostUnproven is how often an answer that nothing vouched for is asked for again at once,
// mostUntold how often a yes whose session had no room for a made-up mailbox of its domain.
const (
	mostUnproven = 2
	mostUntold   = 8
)

func (w *weighing) unproven(it *item, most int) {
	if it.unproved++; it.unproved <= most {
		w.askOnceMore(it)
		return
	}
	w.leave(it, unprovedMeaning, w.number, unprovedMeaning.Why)
}

// contrasts reports whether the refusal at a place, whatever its words, is about the
// mailbox: made-up mailboxes of the domain got the same words, and after them it still
// took others.
func (t *talk) contrasts(at int) bool {
	it := t.asked[at]
	if !t.takesAfter(at, it.site) {
		return false
	}
	for i, other := range t.asked {
		if other.site == it.site && other.kind == madeUp && other.state == answered && t.sameWords(it, other) {
			return t.takesAfter(i, it.site)
		}
	}
	return false
}

// knownContrast reports whether another made-up mailbox showed what these words of the
// host mean when it says them of one.
func (t *talk) knownContrast(it *item) bool {
	for _, s := range t.sites {
		for _, other := range s.madeUp {
			if other != it && other.contrast && other.exchanger == it.exchanger && t.sameWords(it, other) {
				return true
			}
		}
	}
	return false
}

// takesAfter reports whether the host took somebody, of the domain if one is given, after
// a place of the session.
func (t *talk) takesAfter(at int, s *site) bool {
	for _, it := range t.asked[at+1:] {
		if (s == nil || it.site == s) && it.kind != madeUp && it.countIf(reply.Accepted) > 0 {
			return true
		}
	}
	return false
}

// sameWords reports whether the host said the same of two mailboxes.
func (v *visit) sameWords(a, b *item) bool {
	return reply.SameWords(a.reply, b.reply, v.question(a.mailbox), v.question(b.mailbox))
}

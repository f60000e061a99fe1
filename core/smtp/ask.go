package smtp

import (
	"strings"
	"time"
)

// Answer is what the host said of one mailbox.
type Answer struct {
	Mailbox string
	// Answered is false when the session ended first; then nothing is known.
	Answered bool
	Reply    Reply
	At       time.Time
	Took     time.Duration
	place    int
}

// Ask asks about mailboxes, as many of them as the session has room for. Where
// the host offers PIPELINING further questions go out while the replies to those
// before come in; elsewhere they go one by one. It returns an answer for each
// mailbox, in order; when the session ended before the last, the rest are not
// answered and Failure tells why (nil: no room left, or stopped). The first call must
// begin with the mailboxes that Open was given.
//
// heard, which may be nil, is called for each answer; once it returns false nothing
// more is asked, and only what is on its way is still awaited.
func (s *Session) Ask(mailboxes []string, heard func(place int, a Answer) (goOn bool)) []Answer {
	answers, _ := s.AskThen(mailboxes, nil, heard)
	return answers
}

// AskThen is Ask with mailboxes that are asked about behind the last that the session has
// room for, while that is on its way: then names them when it comes to that, and others where the
// transaction was full before the last and one more follows. Their answers come apart, all together, and their
// places go on from the others'. Where the host takes one
// question at a time, or the transaction no more, they are not asked about. Where then says that
// they, or those before where it names none, are the last of the session QUIT goes out with them, which
// saves a round trip (RFC 2920 section 3.1): nothing can be asked after it.
func (s *Session) AskThen(mailboxes []string, then func() (mailboxes []string, last bool), heard func(place int, a Answer) (goOn bool)) (answers, last []Answer) {
	s.stopped, s.onAnswer = false, heard
	answers = make([]Answer, len(mailboxes))
	for i, m := range mailboxes {
		answers[i].Mailbox, answers[i].place = m, i
	}
	listed := answers
	for next := 0; next < len(listed) && s.Room() > 0 && !s.stopped; {
		rest := mailboxes[next:]
		full := s.full || s.inTransaction >= s.limits.Recipients && s.ahead == 0
		if full || needsUTF8(rest[0]) != s.utf8 { // RFC 6531 section 3.4
			if f := s.begin(needsUTF8(rest[0]), rest); f != nil {
				s.fail(f)
				break
			}
		}
		done, tail := s.stream(listed[next:], len(listed)+len(last), then)
		next, last = next+done, append(last, tail...)
	}
	return answers, last
}

// AskLast asks about a mailbox though the session has had all the refusals it may:
// the question by which the answers before it are weighed.
func (s *Session) AskLast(mailbox string) Answer {
	s.beyond = max(s.beyond+1, s.refused+1-s.limits.Refusals, s.asked+1-s.limits.Questions)
	return s.Ask([]string{mailbox}, nil)[0]
}

// stream asks about the first mailboxes of a list, those that may share a transaction, until all
// are answered, the session has no room left, the transaction is full, or the session fails; then
// names what is asked about when no more of the list will be. done is how many of the list,
// from the first on, have an answer; tail are the answers to what then named, whose
// places begin at from.
func (s *Session) stream(list []Answer, from int, then func() ([]string, bool)) (done int, tail []Answer) {
	q := &stream{Session: s, list: list, from: from, then: then, sent: s.ahead, begun: time.Now()}
	if q.sent > 0 {
		q.begun = s.aheadAt
	}
	s.ahead = 0
	q.order = make([]*Answer, 0, min(len(list)+mostThen, usualOrder))
	for i := range list[:q.sent] {
		list[i].At = q.begun
		q.order = append(q.order, &list[i])
	}
	for q.ask() && q.hear() {
	}
	return q.doubt(), q.tail
}

// usualOrder is how many questions a transaction has room for from the start; few sessions ask more.
const usualOrder = 64

// stream is the questions of a transaction and their answers.
type stream struct {
	*Session
	list  []Answer
	then  func() ([]string, bool)
	tail  []Answer // to what then named
	from  int      // the place of the first of them
	begun time.Time
	sent  int       // of the list
	order []*Answer // to all that was sent, in that order
	got   int       // of those
	sure  int       // the questions before it were answered when nothing was on the way
}

// ask sends what may go out now, and reports whether an answer is still to come.
func (q *stream) ask() bool {
	onTheWay := len(q.order) - q.got
	// What has come is read before more is asked: fewer handfuls, and larger ones.
	if n := min(q.more(onTheWay), len(q.list)-q.sent); n > 0 && (onTheWay == 0 || !q.hasLine()) {
		if same := q.sameKind(n); same < n { // the rest is asked about in another transaction, and so is what follows
			n, q.list, q.then = same, q.list[:q.sent+same], nil
		}
		if n > 0 && !q.send(q.list[q.sent:q.sent+n], false) {
			return false
		}
		q.sent += n
	}
	if q.then != nil && (q.sent == len(q.list) || q.Room() == 0) && q.mayAdd(q.sent) {
		more, last := q.then()
		for i, m := range more {
			q.tail = append(q.tail, Answer{Mailbox: m, place: q.from + i})
		}
		q.list, q.then = q.list[:q.sent], nil
		if (last || len(q.tail) > 0) && !q.send(q.tail, last) {
			return false
		}
	}
	return len(q.order) > q.got
}

// sameKind counts how many of the next n mailboxes may share the transaction: those with and those
// without letters outside ASCII may not.
func (q *stream) sameKind(n int) int {
	for i := range n {
		if needsUTF8(q.list[q.sent+i].Mailbox) != q.utf8 {
			return i
		}
	}
	return n
}

// send sends the questions about some mailboxes, and QUIT behind the last of the session.
func (q *stream) send(some []Answer, last bool) bool {
	if f := q.put(some, last, len(q.order) > q.got); f != nil {
		q.fail(f)
		return false
	}
	for i := range some {
		q.order = append(q.order, &some[i])
	}
	return true
}

// hear reads the next answer, and reports whether the stream goes on.
func (q *stream) hear() bool {
	r, f := q.recipientReply()
	if f != nil {
		q.fail(f)
		return false
	}
	if q.taken && isFull(r) {
		q.full = true
		q.discard(len(q.order) - q.got - 1)
		return false
	}
	a := q.order[q.got]
	a.hear(r)
	if q.onAnswer != nil && !q.onAnswer(a.place, *a) {
		q.stopped = true
	}
	q.taken = q.taken || r.Positive()
	q.got++
	q.each = time.Since(q.begun) / time.Duration(q.got)
	if q.got == len(q.order) {
		q.sure = q.got
	}
	return true
}

// doubt takes back what cannot be believed of a stream that ended before its
// time, and returns how many answers of the list stand. When the replies do not come out
// even with the questions that were on the way together, nobody can tell which
// belongs to which, and none of them counts. (One too many shows at the next
// command or at QUIT.)
func (q *stream) doubt() int {
	if f := q.failure; f != nil && len(q.order)-q.sure > 1 && (f.Trouble == Silent || f.Trouble == OutOfTime || f.Trouble == Garbled || f.Trouble == Dropped) {
		q.got = q.sure
	}
	for _, a := range q.order[q.got:] {
		*a = Answer{Mailbox: a.Mailbox, place: a.place}
	}
	return min(q.got, len(q.list))
}

// mostThen is how many questions then may name.
const mostThen = 2

// mayAdd reports whether questions may follow in the transaction though the session's
// limits are reached.
func (s *Session) mayAdd(sent int) bool {
	return sent > 0 && !s.stopped && !s.full && s.piped() && s.inTransaction+mostThen <= s.limits.Recipients
}

// put sends the questions about some mailboxes, and QUIT behind the last of the session.
func (s *Session) put(some []Answer, last, repliesDue bool) *Failure {
	lines := make([]string, len(some), len(some)+1)
	for i := range some {
		lines[i] = rcpt(some[i].Mailbox)
	}
	if last {
		lines = append(lines, "QUIT")
		s.note(false, "QUIT")
		s.leaving = true
	}
	now := time.Now()
	for i := range some {
		some[i].At = now
	}
	s.asked, s.inTransaction = s.asked+len(some), s.inTransaction+len(some)
	return s.send(StepRcpt, repliesDue, lines...)
}

func rcpt(mailbox string) string { return "RCPT TO:<" + mailbox + ">" }

func (a *Answer) hear(r Reply) {
	now := time.Now()
	a.Answered, a.Reply, a.At, a.Took = true, r, now, now.Sub(a.At)
}

// recipientReply reads the reply to one question.
func (s *Session) recipientReply() (Reply, *Failure) {
	r, f := s.reply(StepRcpt, false)
	if f == nil && r.Code == 421 { // RFC 5321 section 3.8: the host is leaving
		s.note(true, r.String())
		f = &Failure{Step: StepRcpt, Trouble: Refused, Reply: r}
	}
	if f == nil {
		s.heard++
		if !r.Positive() {
			s.refused++
		}
	}
	return r, f
}

// isFull tells the reply that says that the transaction is full (RFC 5321
// section 4.5.3.1.10: 452): this question and those behind it belong into the
// next one. A host that says so to an empty transaction means something else.
func isFull(r Reply) bool {
	return r.Code == 452 && (r.Enhanced == "4.5.3" || strings.Contains(strings.ToLower(r.Text()), "too many recipients"))
}

// discard reads replies that count for nothing.
func (s *Session) discard(replies int) {
	for range replies {
		if _, f := s.recipientReply(); f != nil {
			s.fail(f)
			return
		}
	}
}

// piped reports whether questions may follow each other without waiting (RFC 2920).
func (s *Session) piped() bool { return s.limits.Window > 1 && s.Offers("PIPELINING") }

// beforeSilence is how many mailboxes may be on their way at once so that the last
// of them is answered well within our wait, even by a host that keeps its replies
// back until it has done all that it was asked.
func (s *Session) beforeSilence() int {
	return max(1, int(s.limits.Waits[StepRcpt]/4/max(s.each, time.Millisecond)))
}

// beforeComplaint is how many mailboxes may be on their way at once so that few of
// them are asked about after the host has begun to complain: a tenth of what it has
// answered without, in this session alone once that is longer than any before.
func (s *Session) beforeComplaint() int {
	before := min(1+(s.limits.Proven+s.heard)/10, s.limits.Longest-s.heard)
	return max(1+s.heard/10, before)
}

// more is how many further questions may go out while so many are on the way.
// They go in handfuls: not before half of those that may be on the way are
// answered.
func (s *Session) more(onTheWay int) int {
	if s.stopped {
		return 0
	}
	allowed := min(1, s.beforeRefusals())
	if s.piped() {
		allowed = min(s.limits.Window, s.beforeRefusals(), s.beforeSilence(), s.beforeComplaint())
	}
	if onTheWay > 0 && onTheWay*2 > allowed {
		return 0
	}
	return max(0, min(allowed-onTheWay, s.limits.Recipients-s.inTransaction, s.limits.Questions+s.beyond-s.asked))
}

// Takes reports whether the host can be asked about this mailbox at all: one
// with letters outside ASCII needs SMTPUTF8.
func (s *Session) Takes(mailbox string) bool {
	return !needsUTF8(mailbox) || s.Offers("SMTPUTF8")
}

func needsUTF8(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= 0x80 {
			return true
		}
	}
	return false
}

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
}

// Ask asks about mailboxes, as many of them as the session has room for, in
// windows when the host offers PIPELINING and one by one otherwise. It gives
// an answer for each mailbox, in order; when the session ended before the
// last, the rest are not answered and Failure tells why (nil: no room left).
func (s *Session) Ask(mailboxes []string) []Answer {
	answers := make([]Answer, len(mailboxes))
	for i, m := range mailboxes {
		answers[i].Mailbox = m
	}
	for next := 0; next < len(answers); {
		n := min(s.Room(), len(answers)-next, s.window())
		if n == 0 {
			break
		}
		n = s.sameKind(answers[next : next+n])
		if !s.prepare(answers[next].Mailbox) {
			break
		}
		window := answers[next : next+n]
		if f := s.askWindow(window); f != nil {
			s.fail(f)
			break
		}
		taken := s.cutFull(window)
		next += taken
		if taken < n && !s.begin(s.utf8) {
			break
		}
	}
	return answers
}

// cutFull counts the answers before the first that says that the transaction
// is full (RFC 5321 section 4.5.3.1.10: 452). Those behind it have no answer yet
// and belong into the next transaction. A host that says so to an empty
// transaction means something else.
func (s *Session) cutFull(window []Answer) int {
	for i, a := range window {
		full := a.Reply.Code == 452 && (a.Reply.Enhanced == "4.5.3" || strings.Contains(strings.ToLower(a.Reply.Text()), "too many recipients"))
		if full && s.inTransaction > 0 {
			for j := range window[i:] {
				window[i+j] = Answer{Mailbox: window[i+j].Mailbox}
			}
			return i
		}
		if a.Reply.Positive() {
			s.inTransaction++
		}
	}
	return len(window)
}

func (s *Session) window() int {
	if s.Offers("PIPELINING") {
		return s.limits.Window
	}
	return 1
}

// sameKind counts how many of the first mailboxes may share a transaction:
// those with and those without letters outside ASCII may not.
func (s *Session) sameKind(answers []Answer) int {
	for i := range answers {
		if needsUTF8(answers[i].Mailbox) != needsUTF8(answers[0].Mailbox) {
			return i
		}
	}
	return len(answers)
}

// prepare begins a new transaction when the next mailboxes need another kind
// of MAIL FROM (RFC 6531 section 3.4).
func (s *Session) prepare(mailbox string) bool {
	utf8 := needsUTF8(mailbox)
	if utf8 == s.utf8 {
		return true
	}
	return s.begin(utf8)
}

// begin ends the transaction and begins a new one.
func (s *Session) begin(utf8 bool) bool {
	s.inTransaction = 0
	r, f := s.command(StepMail, "RSET")
	if f == nil {
		f = refusal(StepMail, r)
	}
	if f == nil {
		f = s.mail(utf8)
	}
	if f != nil {
		s.fail(f)
	}
	return f == nil
}

// askWindow asks about a window of mailboxes at once. When the replies do not
// come out even with the questions, nobody can tell which belongs to which, and
// none of them counts. (One too many shows at the next command or at QUIT.)
func (s *Session) askWindow(window []Answer) *Failure {
	f := s.exchange(window)
	if f != nil && len(window) > 1 && (f.Trouble == Silent || f.Trouble == OutOfTime || f.Trouble == Garbled) {
		for i := range window {
			window[i] = Answer{Mailbox: window[i].Mailbox}
		}
	}
	return f
}

func (s *Session) exchange(window []Answer) *Failure {
	lines := make([]string, len(window))
	for i, a := range window {
		lines[i] = "RCPT TO:<" + a.Mailbox + ">"
	}
	start := time.Now()
	if f := s.send(StepRcpt, lines...); f != nil {
		return f
	}
	s.asked += len(window)
	for i := range window {
		r, f := s.reply(StepRcpt, false)
		if f != nil {
			return f
		}
		if r.Code == 421 { // RFC 5321 section 3.8: the host is leaving
			s.note(true, r.String())
			return &Failure{Step: StepRcpt, Trouble: Refused, Reply: r}
		}
		if !r.Positive() {
			s.refused++
		}
		now := time.Now()
		window[i].Answered, window[i].Reply, window[i].At, window[i].Took = true, r, now, now.Sub(start)
	}
	return nil
}

// Takes tells whether the host can be asked about this mailbox at all: one
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

package smtp

import "time"

// transaction is what a session has done since its last MAIL FROM.
type transaction struct {
	begun bool // a MAIL FROM was accepted in this session
	utf8  bool // this one carried SMTPUTF8
	taken bool // the host said yes to a recipient
	full  bool // the host takes no more recipients
	// inTransaction counts the questions sent.
	inTransaction int
	// ahead counts those that went out with MAIL FROM, at aheadAt, and whose
	// replies are still to be read.
	ahead   int
	aheadAt time.Time
}

// withMail is how many questions go out with MAIL FROM: a host that refuses it
// counts each of them as an error, and forgives some.
const withMail = 5

// begin begins a transaction, and ends the one before. Where that is offered
// all its commands go out together, the first questions behind them (RFC 2920
// section 3.1).
func (s *Session) begin(utf8 bool, first []string) *Failure {
	mail := "MAIL FROM:<" + s.identity.Sender + ">"
	if utf8 {
		mail += " SMTPUTF8"
	}
	commands := []string{mail}
	if s.begun {
		commands = []string{"RSET", mail}
	}
	s.transaction = transaction{begun: s.begun, utf8: utf8}
	if s.piped() {
		return s.beginWith(commands, s.together(first))
	}
	for _, c := range commands {
		if f := s.say(c); f != nil {
			return f
		}
	}
	s.begun = true
	return nil
}

func (s *Session) say(command string) *Failure {
	r, f := s.command(StepMail, command)
	if f != nil {
		return f
	}
	return refusal(StepMail, r)
}

// together takes as many of the mailboxes as may be asked about with MAIL FROM.
func (s *Session) together(mailboxes []string) []string {
	for i, m := range mailboxes {
		if i == min(withMail, s.more(0)) || needsUTF8(m) != s.utf8 {
			return mailboxes[:i]
		}
	}
	return mailboxes
}

func (s *Session) beginWith(commands, questions []string) *Failure {
	lines := append([]string{}, commands...)
	for _, m := range questions {
		lines = append(lines, rcpt(m))
	}
	s.ahead, s.aheadAt = len(questions), time.Now()
	if f := s.send(StepMail, false, lines...); f != nil {
		return f
	}
	for _, c := range commands {
		s.note(false, c)
	}
	for range commands {
		if f := s.expect(StepMail); f != nil {
			return f
		}
	}
	s.begun, s.inTransaction, s.asked = true, s.ahead, s.asked+s.ahead
	return nil
}

// Package smtp holds the conversation with one mail host: greeting, EHLO,
// STARTTLS where the host demands it, MAIL FROM, RCPT TO for many mailboxes,
// RSET, QUIT (RFC 5321), with PIPELINING where it is offered (RFC 2920). It
// never goes on to DATA: no message is ever sent.
//
// Open begins a session and returns it with a *Failure where none came about: at which
// step, how, with which reply. AskThen asks about mailboxes, Close says QUIT.
//
// A Session ends itself before the host's patience does (see Limits). A mailbox
// the host did not answer about has no answer: nothing is ever assumed.
package smtp

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"strings"
	"time"
)

// Identity is who asks.
type Identity struct {
	Name   string // the EHLO name
	Sender string // MAIL FROM; "" is the null sender
}

// Waits are how long each step may take, until the last line of its reply.
type Waits map[Step]time.Duration

// MaxWait is the longest wait for one step in the first round. The times of RFC 5321
// section 4.5.3.2 are two to ten minutes; later rounds wait longer (Patient).
const MaxWait = 15 * time.Second

// DefaultWaits suit hosts nothing is known about.
func DefaultWaits() Waits {
	w := Waits{}.All(MaxWait)
	w[StepConnect] = 8 * time.Second
	w[StepQuit] = time.Second // nothing hangs on the reply
	return w
}

// LastWait is the wait for a reply in the last round, unless somebody says otherwise: as
// long as RFC 5321 section 4.5.3.2 has a client wait for greetings, MAIL and RCPT.
const LastWait = 5 * time.Minute

// Patient returns the waits after so many rounds: four times as long in the second, and
// as long as last in those after it.
func (w Waits) Patient(rounds int, last time.Duration) Waits {
	if rounds == 0 {
		return w
	}
	out := maps.Clone(w)
	for _, s := range []Step{StepGreeting, StepHello, StepMail, StepRcpt} {
		if longest := max(w[s], last); rounds > 1 {
			out[s] = longest
		} else {
			out[s] = min(4*w[s], longest)
		}
	}
	return out
}

// WaitSteps are the steps whose wait can be set.
func WaitSteps() []Step {
	return []Step{StepConnect, StepGreeting, StepHello, StepTLS, StepMail, StepRcpt}
}

// All returns the waits with that of every step that can be set changed.
func (w Waits) All(d time.Duration) Waits {
	out := maps.Clone(w)
	for _, s := range WaitSteps() {
		out[s] = d
	}
	return out
}

// Limits bound a session.
type Limits struct {
	Waits Waits
	// Refusals ends the session when the host has refused so many
	// recipients. Hosts count them, slow down at about 10 and hang up at 20.
	Refusals int
	// Recipients ends a transaction after so many questions; hosts must take
	// 100 (RFC 5321 section 4.5.3.1.8). A next one begins in the same session.
	Recipients int
	// Questions ends the session after so many.
	Questions int
	// Window is how many RCPT commands may be on their way at once, at most:
	// a host that has answered little so far gets fewer.
	Window int
	// Proven is how many questions the host's operator has answered without a
	// complaint before this session, and Longest how many of one session, the most.
	Proven, Longest int
	// Encrypt says STARTTLS wherever it is offered, before MAIL; otherwise it is
	// said when a reply to MAIL asks for it.
	Encrypt bool
}

// DefaultLimits suit hosts nothing is known about.
func DefaultLimits() Limits {
	return Limits{Waits: DefaultWaits(), Refusals: 9, Recipients: 100, Questions: 200, Window: 50}
}

// Line is one line of the conversation, for the evidence.
type Line struct {
	AtMS float64 // since the connection was opened
	Host bool    // the host said it; otherwise we did
	Text string
}

// Step is a step of the conversation.
type Step string

// The steps.
const (
	StepConnect  Step = "connect"
	StepGreeting Step = "greeting"
	StepHello    Step = "hello"
	StepTLS      Step = "tls"
	StepMail     Step = "mail"
	StepRcpt     Step = "rcpt"
	StepQuit     Step = "quit"
)

// Trouble is how a session failed.
type Trouble string

// The troubles.
const (
	Unreachable Trouble = "unreachable" // no connection
	Crowded     Trouble = "crowded"     // no connection while others of ours were open
	NoRoute     Trouble = "no-route"    // the way to the host failed, not the host
	Silent      Trouble = "silent"      // no reply in time
	Dropped     Trouble = "dropped"     // the host closed the connection
	Garbled     Trouble = "garbled"     // not a reply
	Refused     Trouble = "refused"     // a 4xx or 5xx; Reply holds it
	NoTLS       Trouble = "no-tls"      // encryption demanded, and none came about
	OutOfStep   Trouble = "out-of-step" // more replies than questions: none of the session counts
	OutOfTime   Trouble = "out-of-time" // our own time for the session was up
)

// Failure ends a session.
type Failure struct {
	Step    Step
	Trouble Trouble
	Reply   Reply // of Refused
	Err     error
}

func (f *Failure) Error() string {
	if f.Trouble == Refused {
		return fmt.Sprintf("%s: refused: %s", f.Step, f.Reply)
	}
	return fmt.Sprintf("%s: %s: %v", f.Step, f.Trouble, f.Err)
}

func (f *Failure) Unwrap() error { return f.Err }

// Session is a conversation whose MAIL FROM was accepted.
type Session struct {
	conn       net.Conn
	in         *bufio.Reader
	ctx        context.Context
	identity   Identity
	limits     Limits
	start      time.Time
	extensions map[string]string
	encrypted  bool
	failure    *Failure
	left       bool // QUIT was said, or cannot be
	leaving    bool // QUIT went out with the last questions
	// asked and heard count the questions sent and the replies to them.
	asked, heard int
	// stopped: the caller wants nothing more asked; onAnswer is how it says so.
	stopped  bool
	onAnswer func(place int, a Answer) bool
	// beyond is how many refusals beyond the limit the session may see.
	beyond int
	// each is how long the host takes for a reply, as far as that is known.
	each time.Duration
	transaction
	refused int
	lines   []Line
	// same is the last reply that was one line: the next is mostly like it.
	same struct {
		line  string
		reply Reply
	}
}

// Open greets the host and goes as far as an accepted MAIL FROM. It takes over
// conn. first are the mailboxes that Ask will be given first: where the host
// offers PIPELINING the questions about some of them go out with MAIL FROM, which
// saves a round trip. On failure the session still holds the lines said so far;
// the error is a *Failure. ctx bounds the whole session.
func Open(ctx context.Context, conn net.Conn, id Identity, l Limits, first ...string) (*Session, error) {
	s := &Session{conn: conn, ctx: ctx, identity: id, limits: l, start: time.Now(),
		in: bufio.NewReaderSize(conn, maxLine)}
	if f := s.open(first); f != nil {
		s.fail(f)
		return s, f
	}
	return s, nil
}

func (s *Session) open(first []string) *Failure {
	if f := s.expect(StepGreeting); f != nil {
		return f
	}
	if f := s.hello(); f != nil {
		return f
	}
	if s.limits.Encrypt && s.Offers("STARTTLS") {
		if f := s.startTLS(); f != nil {
			return f
		}
	}
	f := s.begin(false, first)
	if f == nil || s.encrypted || !wantsTLS(f.Reply) {
		return f
	}
	s.discard(s.ahead)
	if s.failure != nil {
		return s.failure
	}
	s.heard, s.refused = 0, 0
	if f = s.startTLS(); f != nil {
		return f
	}
	return s.begin(false, first)
}

// hello says EHLO, and HELO to hosts that do not know it.
func (s *Session) hello() *Failure {
	begun := time.Now()
	r, f := s.command(StepHello, "EHLO "+s.identity.Name)
	if f != nil {
		return f
	}
	s.each = time.Since(begun)
	s.extensions = map[string]string{}
	if r.Permanent() && (r.Code == 500 || r.Code == 502 || r.Code == 504) {
		if r, f = s.command(StepHello, "HELO "+s.identity.Name); f != nil {
			return f
		}
	} else if r.Positive() {
		for _, l := range r.Lines[1:] {
			word, args, _ := strings.Cut(strings.TrimSpace(l), " ")
			s.extensions[strings.ToUpper(word)] = args
		}
	}
	return refusal(StepHello, r)
}

// wantsTLS reports a reply that asks for STARTTLS: 530 (RFC 3207 section 4), x.7.10
// (RFC 5248), or words that say so under any other code.
func wantsTLS(r Reply) bool {
	text := strings.ToLower(r.Text())
	return r.Code == 530 && !strings.Contains(text, "auth") ||
		!r.Positive() && (strings.HasSuffix(r.Enhanced, ".7.10") || strings.Contains(text, "starttls") || strings.Contains(text, "encrypt") ||
			strings.Contains(" "+text+" ", " tls "))
}

func (s *Session) startTLS() *Failure {
	if !s.Offers("STARTTLS") {
		return &Failure{Step: StepTLS, Trouble: NoTLS, Err: errors.New("the host demands STARTTLS and does not offer it")}
	}
	r, f := s.command(StepTLS, "STARTTLS")
	if f != nil {
		return f
	}
	if !r.Positive() {
		return &Failure{Step: StepTLS, Trouble: NoTLS, Err: errors.New(r.String())}
	}
	// What was sent before the handshake is not trusted (CVE-2011-0411).
	if s.in.Buffered() > 0 {
		return &Failure{Step: StepTLS, Trouble: Garbled, Err: errors.New("the host spoke before the handshake")}
	}
	// The certificate is not judged: nothing secret is said, and hosts with
	// certificates of their own making take mail like all others.
	t := tls.Client(s.conn, &tls.Config{InsecureSkipVerify: true})
	s.deadline(StepTLS)
	if err := t.HandshakeContext(s.ctx); err != nil {
		s.left = true // what is said now is not understood
		return &Failure{Step: StepTLS, Trouble: NoTLS, Err: err}
	}
	s.note(false, "("+tls.VersionName(t.ConnectionState().Version)+" from here on)")
	s.conn, s.encrypted = t, true
	s.in.Reset(t)
	return s.hello()
}

// Offers reports whether the host named a service extension in its EHLO reply.
func (s *Session) Offers(extension string) bool {
	_, ok := s.extensions[extension]
	return ok
}

// Encrypted reports whether STARTTLS took place.
func (s *Session) Encrypted() bool { return s.encrypted }

// Lines returns the session-level lines said so far; RCPT commands and their
// replies are in the answers instead.
func (s *Session) Lines() []Line { return s.lines }

// Failure is why the session ended, nil while it is good.
func (s *Session) Failure() *Failure { return s.failure }

// Room is how many more mailboxes this session may be asked about now.
func (s *Session) Room() int {
	if s.failure != nil || s.leaving || s.refused >= s.limits.Refusals+s.beyond {
		return 0
	}
	return max(0, s.limits.Questions+s.beyond-s.asked+s.ahead)
}

// beforeRefusals is how many mailboxes may be on their way at once: as many as
// bring the session to its limit of refusals at the rate so far, and not so many
// that two and a half times the rate would bring it to twice the limit.
func (s *Session) beforeRefusals() int {
	left := s.limits.Refusals + s.beyond - s.refused
	usual := left * (s.heard + 1) / (s.refused + 1)
	safe := (left + s.limits.Refusals) * (s.heard + 2) * 2 / (5 * (s.refused + 1))
	return max(0, left, min(usual, safe))
}

// Leaving reports whether QUIT went out with the last questions, so that no more can be asked.
func (s *Session) Leaving() bool { return s.leaving }

// quit says QUIT, unless that went out with the last questions, and reads the reply.
func (s *Session) quit() (Reply, *Failure) {
	if s.leaving {
		s.left = true
		return s.reply(StepQuit, true)
	}
	return s.command(StepQuit, "QUIT")
}

// Close says QUIT, without waiting long for the reply, and closes. A reply that
// can only belong to an earlier question shows that the session was out of
// step; Failure tells it.
func (s *Session) Close() {
	if s.failure == nil {
		r, f := s.quit()
		if f == nil && (r.Code == 250 || r.Code == 550) {
			f = outOfStep(StepQuit)
		}
		if f != nil && f.Trouble == OutOfStep {
			s.fail(f)
		}
		if f == nil {
			s.awaitEnd()
		}
	}
	_ = s.conn.Close()
}

// awaitEnd waits a moment for the host to close (RFC 5321 section 4.1.1.10). A
// next session begun before would stand beside this one in the host's eyes,
// the more so behind a proxy.
func (s *Session) awaitEnd() {
	_ = s.conn.SetReadDeadline(time.Now().Add(endWait))
	_, _ = io.Copy(io.Discard, io.LimitReader(s.in, maxLine))
}

const endWait = time.Second

// fail ends the session. A host that still listens is told so first and sees us
// leave: nobody may hang up without a QUIT, an error or not (RFC 5321 section
// 4.1.1.10). One that says 421 hangs up by itself.
func (s *Session) fail(f *Failure) {
	if s.failure != nil {
		return
	}
	s.failure = f
	switch f.Trouble {
	case Refused, OutOfStep, Garbled, Silent, OutOfTime, NoTLS:
		if f.Reply.Code != 421 && !s.left && !s.leaving {
			s.note(false, "QUIT")
			_ = s.conn.SetDeadline(time.Now().Add(endWait))
			_, _ = io.WriteString(s.conn, "QUIT\r\n")
		}
		if f.Trouble != Silent && f.Trouble != OutOfTime && !s.left { // who says nothing says no farewell
			s.awaitEnd()
		}
	}
	_ = s.conn.Close()
}

func refusal(step Step, r Reply) *Failure {
	if r.Positive() {
		return nil
	}
	return &Failure{Step: step, Trouble: Refused, Reply: r}
}

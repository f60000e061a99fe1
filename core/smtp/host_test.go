package smtp

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// heard is what a host heard, one command a line.
type heard struct {
	mu    sync.Mutex
	lines []string
}

func (h *heard) add(line string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.lines = append(h.lines, line)
}

func (h *heard) all() []string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.Clone(h.lines)
}

// TestNobodyHangsUpWithoutAQuit: whatever a host that listens says, it is told that
// we leave, once and as the last word (RFC 5321 section 4.1.1.10).
func TestNobodyHangsUpWithoutAQuit(t *testing.T) {
	yes := polite(func(string) string { return "250 ok\r\n" })
	instead := func(verb, reply string) func(string) string {
		return func(line string) string {
			if strings.HasPrefix(line, verb) {
				return reply
			}
			return yes(line)
		}
	}
	for what, c := range map[string]struct {
		greeting string
		answer   func(string) string
		quits    int
	}{
		"all is well":                 {"220 host\r\n", yes, 1},
		"no service":                  {"554 no service for you\r\n", yes, 1},
		"no host of mail":             {"HTTP/1.0 400 Bad Request\r\n", yes, 1},
		"too busy, and leaves":        {"421 too busy\r\n", yes, 0},
		"our name is refused":         {"220 host\r\n", instead("EHLO", "550 5.7.1 your name\r\n"), 1},
		"the sender is refused":       {"220 host\r\n", instead("MAIL", "550 5.1.8 your sender\r\n"), 1},
		"the sender is put off":       {"220 host\r\n", instead("MAIL", "451 4.7.1 later\r\n"), 1},
		"a reply that is none":        {"220 host\r\n", instead("RCPT", "what?\r\n"), 1},
		"a reply too many":            {"220 host\r\n", instead("RCPT", "250 ok\r\n250 ok\r\n"), 1},
		"it leaves in the middle":     {"220 host\r\n", instead("RCPT", "421 going down\r\n"), 0},
		"it hangs up in the middle":   {"220 host\r\n", instead("RCPT", "hang up"), 0},
		"TLS is wanted and not there": {"220 host\r\n", instead("MAIL", "530 5.7.0 Must issue a STARTTLS command first\r\n"), 1},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			var h heard
			s, err := open(t, scripted(t, c.greeting, func(line string) string { h.add(line); return c.answer(line) }))
			if err == nil {
				s.Ask([]string{"a@h.example", "b@h.example", "c@h.example"}, nil)
				s.Close()
			}
			lines := h.all()
			quits := 0
			for _, l := range lines {
				if l == "QUIT" {
					quits++
				}
			}
			if quits != c.quits || quits > 0 && lines[len(lines)-1] != "QUIT" {
				t.Errorf("the host heard %q; failure %v", lines, s.Failure())
			}
		})
	}
}

// whim is a host that does what hosts do, drawn at random. Each reply to a question
// names the mailbox, so that one can tell whose it is.
type whim struct {
	heard
	rng *rand.Rand
	// The nth question is answered by hanging up, leaving with 421, or a reply too
	// many; 0: none is.
	hangsUp, leaves, twice int
	recipients             int // it takes in a transaction
	pipelining             bool
	refuses                float64

	questions, taken, refused int
}

func newWhim(rng *rand.Rand) *whim {
	some := func(share float64, upTo int) int {
		if rng.Float64() > share {
			return 0
		}
		return 1 + rng.IntN(upTo)
	}
	return &whim{rng: rng, hangsUp: some(0.2, 200), leaves: some(0.2, 200), twice: some(0.2, 200), recipients: []int{5, 60, 100, 1000}[rng.IntN(4)],
		pipelining: rng.IntN(3) > 0, refuses: []float64{0, 0.02, 0.3, 1}[rng.IntN(4)]}
}

func (w *whim) answer(line string) string {
	w.add(line)
	switch {
	case strings.HasPrefix(line, "EHLO") && w.pipelining:
		return "250-host.example\r\n250 PIPELINING\r\n"
	case strings.HasPrefix(line, "MAIL"), line == "RSET":
		w.taken = 0
	case strings.HasPrefix(line, "RCPT"):
		return w.question(line[len("RCPT TO:<") : len(line)-1])
	case line == "QUIT":
		return "221 bye\r\n"
	}
	return "250 ok\r\n"
}

func (w *whim) question(mailbox string) string {
	w.questions++
	switch {
	case w.questions == w.hangsUp:
		return "hang up"
	case w.questions == w.leaves:
		return "421 4.3.2 going down\r\n"
	case w.taken >= w.recipients:
		return "452 4.5.3 too many recipients\r\n"
	}
	reply := "250 2.1.5 <" + mailbox + "> is fine\r\n"
	if w.rng.Float64() < w.refuses {
		w.refused++
		reply = "550 5.1.1 <" + mailbox + "> is not here\r\n"
	} else {
		w.taken++
	}
	if w.questions == w.twice {
		reply += reply
	}
	return reply
}

// TestWhateverAHostDoes: an answer belongs to the mailbox that was asked about, or
// the session says that it was out of step; no host is asked more than the limits
// allow.
func TestWhateverAHostDoes(t *testing.T) {
	for n := range 400 {
		seed := uint64(n)
		w := newWhim(rand.New(rand.NewPCG(25, seed)))
		l := quick
		l.Window = 1 + n%50
		s, err := Open(context.Background(), scripted(t, "220 host\r\n", w.answer), Identity{Name: "v.example", Sender: "check@v.example"}, l)
		if err != nil {
			t.Fatalf("host %d: %v", n, err)
		}
		var mailboxes []string
		for i := range 250 {
			mailboxes = append(mailboxes, fmt.Sprintf("m%d@h.example", i))
		}
		answers := s.Ask(mailboxes, nil)
		s.Close()
		outOfStep := s.Failure() != nil && s.Failure().Trouble == OutOfStep
		answered := 0
		for i, a := range answers {
			if !a.Answered {
				continue
			}
			answered++
			if !strings.Contains(a.Reply.Text(), "<"+mailboxes[i]+">") && !outOfStep {
				t.Fatalf("host %d: the answer about %s is %s; failure %v", n, mailboxes[i], a.Reply, s.Failure())
			}
		}
		holdLimits(t, n, w, l, answered)
	}
}

// TestTheLastQuestionsTakeQuitAlong: where the last questions of a session are known to be the last QUIT goes out with
// them, and nothing is said after it; an answer is believed or not as without.
func TestTheLastQuestionsTakeQuitAlong(t *testing.T) {
	together := 0
	for n := range 400 {
		w := newWhim(rand.New(rand.NewPCG(26, uint64(n))))
		if w.twice > 0 {
			w.hangsUp, w.leaves = 0, 0 // a host that breaks off does not show that it said too much
		}
		l := quick
		l.Window = 1 + n%50
		s, err := Open(context.Background(), scripted(t, "220 host\r\n", w.answer), Identity{Name: "v.example", Sender: "check@v.example"}, l)
		if err != nil {
			t.Fatalf("host %d: %v", n, err)
		}
		mailboxes := make([]string, 1+n%40)
		for i := range mailboxes {
			mailboxes[i] = fmt.Sprintf("m%d@h.example", i)
		}
		behind := []string{"x@h.example", "y@h.example"}[:n%3]
		answers, last := s.AskThen(mailboxes, func() ([]string, bool) { return behind, true }, nil)
		if s.Leaving() {
			together++
			if a := s.AskLast("z@h.example"); a.Answered || s.Room() != 0 {
				t.Fatalf("host %d: after QUIT %s, and room for %d", n, a.Reply, s.Room())
			}
		}
		s.Close()
		outOfStep := s.Failure() != nil && s.Failure().Trouble == OutOfStep
		for _, a := range append(answers, last...) {
			if a.Answered && !strings.Contains(a.Reply.Text(), "<"+a.Mailbox+">") && !outOfStep {
				t.Fatalf("host %d: the answer about %s is %s; failure %v", n, a.Mailbox, a.Reply, s.Failure())
			}
		}
		lines := w.all()
		if at := slices.Index(lines, "QUIT"); at >= 0 && at != len(lines)-1 {
			t.Fatalf("host %d: after QUIT %q", n, lines[at+1:])
		}
		if w.hangsUp+w.leaves+w.twice == 0 && s.Leaving() && (s.Failure() != nil || !slices.ContainsFunc(s.Lines(), func(line Line) bool { return line.Text == "221 bye" })) {
			t.Fatalf("host %d: failure %v, lines %v", n, s.Failure(), s.Lines())
		}
	}
	if together < 100 {
		t.Errorf("of 400 sessions %d ended so", together)
	}
}

// holdLimits looks at what the host heard.
func holdLimits(t *testing.T, n int, w *whim, l Limits, answered int) {
	t.Helper()
	in, most, transactions := 0, 0, 0
	for _, line := range w.all() {
		switch {
		case strings.HasPrefix(line, "MAIL"):
			in, transactions = 0, transactions+1
		case strings.HasPrefix(line, "RCPT"):
			in++
			most = max(most, in)
		}
	}
	if most > l.Recipients || w.questions > l.Questions {
		t.Fatalf("host %d was asked %d questions, up to %d in one of %d transactions", n, w.questions, most, transactions)
	}
	if w.refused >= 2*l.Refusals+l.Window {
		t.Fatalf("host %d refused %d of %d", n, w.refused, w.questions)
	}
	if ends := w.hangsUp + w.leaves + w.twice; ends == 0 && w.refuses == 0 && w.recipients >= l.Recipients && answered != l.Questions {
		t.Fatalf("host %d answered %d of %d questions", n, answered, w.questions)
	}
}

// TestAHostThatDrips: line after line of a reply does not hold us longer than one.
func TestAHostThatDrips(t *testing.T) {
	start := time.Now()
	conn := scripted(t, "220 host\r\n", func(line string) string {
		if !strings.HasPrefix(line, "EHLO") {
			return "250 ok\r\n"
		}
		return ""
	})
	_, err := open(t, conn)
	f, ok := err.(*Failure)
	if !ok || f.Trouble != Silent || f.Step != StepHello {
		t.Errorf("after %v: %v", time.Since(start), err)
	}
}

package smtp

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

// scripted is a host that gives replies by a function of the command; "" means
// silence, "hang up" ends the connection.
func scripted(t *testing.T, greeting string, answer func(line string) string) net.Conn {
	t.Helper()
	ours, theirs := net.Pipe()
	t.Cleanup(func() { _ = ours.Close(); _ = theirs.Close() })
	go func() {
		defer theirs.Close()
		if greeting == "" {
			time.Sleep(2 * time.Second)
			return
		}
		fmt.Fprint(theirs, greeting)
		if strings.HasPrefix(greeting, "421") {
			return
		}
		lines := make(chan string, 1000) // a pipe has no buffer of its own
		go func() {
			defer close(lines)
			for in := bufio.NewScanner(theirs); in.Scan(); {
				lines <- in.Text()
			}
		}()
		for line := range lines {
			switch a := answer(line); a {
			case "":
			case "hang up":
				return
			default:
				fmt.Fprint(theirs, a)
				if line == "QUIT" || strings.HasPrefix(a, "421") {
					return
				}
			}
		}
	}()
	return ours
}

var quick = Limits{Waits: DefaultWaits().All(200 * time.Millisecond), Refusals: 9, Recipients: 100, Questions: 200, Window: 5, Proven: 1000, Longest: 1000}

// polite answers everything but RCPT the usual way.
func polite(rcpt func(mailbox string) string) func(string) string {
	return func(line string) string {
		switch {
		case strings.HasPrefix(line, "EHLO"):
			return "250-host.example\r\n250-PIPELINING\r\n250 8BITMIME\r\n"
		case strings.HasPrefix(line, "RCPT"):
			return rcpt(line[len("RCPT TO:<") : len(line)-1])
		case strings.HasPrefix(line, "QUIT"):
			return "221 bye\r\n"
		}
		return "250 ok\r\n"
	}
}

func open(t *testing.T, conn net.Conn) (*Session, error) {
	t.Helper()
	return Open(context.Background(), conn, Identity{Name: "verify.fernhollow.example", Sender: "check@fernhollow.example"}, quick)
}

func TestAskGivesEachMailboxItsOwnReply(t *testing.T) {
	s, err := open(t, scripted(t, "220-wait\r\n220 host\r\n", polite(func(m string) string {
		if strings.HasPrefix(m, "gone") {
			return "550-5.1.1 no such\r\n550 5.1.1 user\r\n"
		}
		return "250 2.1.5 ok\r\n"
	})))
	if err != nil {
		t.Fatal(err)
	}
	var mailboxes []string
	for i := range 20 {
		name := "here"
		if i%4 == 3 {
			name = "gone"
		}
		mailboxes = append(mailboxes, fmt.Sprintf("%s%d@host.example", name, i))
	}
	for i, a := range s.Ask(mailboxes, nil) {
		if a.Mailbox != mailboxes[i] || !a.Answered || a.Reply.Positive() == strings.HasPrefix(a.Mailbox, "gone") {
			t.Errorf("%s: %+v", mailboxes[i], a)
		}
		if a.Reply.Permanent() && (a.Reply.Enhanced != "5.1.1" || a.Reply.Text() != "no such 5.1.1 user" && a.Reply.Text() != "no such user") {
			t.Errorf("the reply reads %q", a.Reply)
		}
	}
	s.Close()
	if s.Failure() != nil {
		t.Error(s.Failure())
	}
}

func TestASessionEndsItselfBeforeTheHostsPatience(t *testing.T) {
	asked := 0
	s, err := open(t, scripted(t, "220 host\r\n", polite(func(string) string { asked++; return "550 5.1.1 no\r\n" })))
	if err != nil {
		t.Fatal(err)
	}
	answers := s.Ask(strings.Split(strings.Repeat("x@host.example ", 49)+"x@host.example", " "), nil)
	n := 0
	for _, a := range answers {
		if a.Answered {
			n++
		}
	}
	if n != quick.Refusals || asked != n || s.Room() != 0 || s.Failure() != nil {
		t.Errorf("%d answered, %d asked, room for %d, %v", n, asked, s.Room(), s.Failure())
	}
}

// TestQuestionsFollowEachOtherWithoutWaiting: the host says yes to MAIL FROM only
// when the first questions lie there, and replies only while others are on the way.
func TestQuestionsFollowEachOtherWithoutWaiting(t *testing.T) {
	var mailboxes []string
	for i := range 60 {
		mailboxes = append(mailboxes, fmt.Sprintf("m%d@host.example", i))
	}
	heard, answered := 0, 0
	conn := scripted(t, "220 host\r\n", func(line string) string {
		switch {
		case strings.HasPrefix(line, "MAIL"):
			return "" // said with the first questions
		case strings.HasPrefix(line, "RCPT"):
			if heard++; heard == withMail {
				answered = 3
				return "250 sender ok\r\n" + strings.Repeat("250 ok\r\n", 3)
			} else if heard < withMail {
				return ""
			} else if heard < len(mailboxes) { // always two behind
				answered++
				return "250 ok\r\n"
			}
			return strings.Repeat("250 ok\r\n", heard-answered)
		}
		return polite(nil)(line)
	})
	l := quick
	l.Window = 50
	s, err := Open(context.Background(), conn, Identity{Name: "verify.fernhollow.example"}, l, mailboxes...)
	if err != nil {
		t.Fatal(err)
	}
	for i, a := range s.Ask(mailboxes, nil) {
		if !a.Answered || a.Mailbox != mailboxes[i] {
			t.Fatalf("mailbox %d of %d: %+v; %v", i, heard, a, s.Failure())
		}
	}
	if s.Close(); s.Failure() != nil {
		t.Error(s.Failure())
	}
}

// TestASlowHostIsNotOverrun: a host that takes 30 ms for each recipient, and keeps
// its replies back until it has done all that it was asked, is never asked so much
// at once that it would seem silent.
func TestASlowHostIsNotOverrun(t *testing.T) {
	ours, theirs := net.Pipe()
	t.Cleanup(func() { _ = ours.Close(); _ = theirs.Close() })
	lines := make(chan string, 1000)
	go func() {
		defer close(lines)
		for in := bufio.NewScanner(theirs); in.Scan(); {
			lines <- in.Text()
		}
	}()
	go func() {
		fmt.Fprint(theirs, "220 host\r\n")
		kept := ""
		for line := range lines {
			time.Sleep(30 * time.Millisecond)
			if kept += polite(func(string) string { return "250 ok\r\n" })(line); len(lines) == 0 {
				fmt.Fprint(theirs, kept)
				kept = ""
			}
		}
	}()
	l := quick
	l.Waits, l.Window = DefaultWaits().All(600*time.Millisecond), 50
	mailboxes := strings.Split(strings.Repeat("x@host.example ", 59)+"x@host.example", " ")
	s, err := Open(context.Background(), ours, Identity{Name: "v.example"}, l, mailboxes...)
	if err != nil {
		t.Fatal(err)
	}
	for i, a := range s.Ask(mailboxes, nil) {
		if !a.Answered {
			t.Fatalf("mailbox %d has no answer: %v", i, s.Failure())
		}
	}
}

// TestALongSessionHasSeveralTransactions holds the numbers of RFC 5321 section
// 4.5.3.1.8 by a host that takes not one recipient more.
func TestALongSessionHasSeveralTransactions(t *testing.T) {
	in, transactions := 0, 0
	s, err := open(t, scripted(t, "220 host\r\n", func(line string) string {
		if strings.HasPrefix(line, "MAIL") {
			in, transactions = 0, transactions+1
		}
		return polite(func(string) string {
			if in++; in > 100 {
				return "554 too many\r\n"
			}
			return "250 ok\r\n"
		})(line)
	}))
	if err != nil {
		t.Fatal(err)
	}
	mailboxes := strings.Split(strings.Repeat("x@host.example ", 249)+"x@host.example", " ")
	yes := 0
	for _, a := range s.Ask(mailboxes, nil) {
		if a.Reply.Positive() {
			yes++
		}
	}
	if yes != quick.Questions || transactions != 2 || s.Room() != 0 || s.Failure() != nil {
		t.Errorf("%d taken in %d transactions, room for %d, %v", yes, transactions, s.Room(), s.Failure())
	}
}

// TestFewAreOnTheWayWhereNoSessionCameYet: as far as a session of the operator has come without a complaint, a tenth of all
// answers may be on their way; beyond that a tenth of this session's.
func TestFewAreOnTheWayWhereNoSessionCameYet(t *testing.T) {
	for _, c := range []struct{ proven, longest, heard, want int }{
		{0, 0, 0, 1}, {0, 0, 20, 3}, {500, 100, 0, 51}, {500, 100, 60, 40}, {500, 100, 95, 10}, {500, 100, 200, 21}, {500, 20, 0, 20}, {500, 20, 25, 3}, {40, 100, 10, 6},
	} {
		s := &Session{limits: Limits{Proven: c.proven, Longest: c.longest}, heard: c.heard}
		if got := s.beforeComplaint(); got != c.want {
			t.Errorf("%d answers before, %d in a session, %d in this one: %d may be on their way, not %d", c.proven, c.longest, c.heard, got, c.want)
		}
	}
}

// TestWhatFollowsTwice: where the host says that the transaction is full before the last mailbox, what was to follow it
// is named anew behind it in the next; each answer comes with the place of its own mailbox.
func TestWhatFollowsTwice(t *testing.T) {
	taken, full := 0, false
	s, err := open(t, scripted(t, "220 host\r\n", polite(func(m string) string {
		if taken++; taken > 4 && !full {
			full = strings.HasPrefix(m, "second")
			return "452 4.5.3 too many recipients\r\n"
		}
		return "250 2.1.5 <" + m + "> is fine\r\n"
	})))
	if err != nil {
		t.Fatal(err)
	}
	mailboxes := []string{"a@h.example", "b@h.example", "c@h.example", "d@h.example", "e@h.example"}
	follow := [][]string{{"first@h.example", "second@h.example"}, {"third@h.example"}}
	all := slices.Clone(mailboxes)
	answers, last := s.AskThen(mailboxes, func() ([]string, bool) {
		named := follow[0]
		follow, all = follow[1:], append(all, named...)
		return named, false
	}, func(place int, a Answer) bool {
		if all[place] != a.Mailbox {
			t.Errorf("the answer about %s comes at the place of %s", a.Mailbox, all[place])
		}
		return true
	})
	answers = append(answers, last...)
	if len(follow) != 0 || len(answers) != len(all) {
		t.Fatalf("%d answers about %s, and %s were not named", len(answers), all, follow)
	}
	for i, a := range answers {
		if a.Mailbox != all[i] || a.Answered != (i < 5 || i == 7) {
			t.Errorf("%s: %+v", all[i], a)
		}
	}
}

// TestTransactionsOfOneKind: mailboxes with letters outside ASCII and those without come in turns, a few or many at a
// time, and each is asked about in a transaction of its kind; what follows comes behind the last of them.
func TestTransactionsOfOneKind(t *testing.T) {
	for _, each := range []int{1, 4, 5, 6, 30} {
		var h heard
		s, err := open(t, scripted(t, "220 host\r\n", func(line string) string {
			if h.add(line); strings.HasPrefix(line, "EHLO") {
				return "250-host.example\r\n250-SMTPUTF8\r\n250 PIPELINING\r\n"
			}
			return "250 ok\r\n"
		}))
		if err != nil {
			t.Fatal(err)
		}
		var mailboxes []string
		for n := range 6 * each {
			mailboxes = append(mailboxes, fmt.Sprintf("%s%d@h.example", []string{"a", "ö"}[n/each%2], n))
		}
		answers, last := s.AskThen(mailboxes, func() ([]string, bool) { return []string{"ö-after@h.example"}, false }, nil)
		s.Close()
		for _, a := range append(answers, last...) {
			if !a.Answered || a.Reply.Code != 250 {
				t.Errorf("%d of a kind together: %+v", each, a)
			}
		}
		utf8 := false
		var asked []string
		for _, line := range h.all() {
			mailbox, question := strings.CutPrefix(line, "RCPT TO:")
			switch {
			case strings.HasPrefix(line, "MAIL"):
				utf8 = strings.HasSuffix(line, " SMTPUTF8")
			case question && strings.Contains(line, "ö") != utf8:
				t.Errorf("%d of a kind together: %s in a transaction of the other kind", each, mailbox)
			case question:
				asked = append(asked, strings.Trim(mailbox, "<>"))
			}
		}
		if !slices.Equal(asked, append(mailboxes, "ö-after@h.example")) {
			t.Errorf("%d of a kind together: asked about %s", each, asked)
		}
	}
}

func TestWhereTLSIsDemandedTheQuestionsAreAskedAgain(t *testing.T) {
	var heard []string
	s, err := Open(context.Background(), scripted(t, "220 host\r\n", func(line string) string {
		heard = append(heard, line)
		switch {
		case strings.HasPrefix(line, "EHLO"):
			return "250-host.example\r\n250-STARTTLS\r\n250 PIPELINING\r\n"
		case strings.HasPrefix(line, "MAIL"):
			return "530 5.7.0 Must issue a STARTTLS command first\r\n"
		case strings.HasPrefix(line, "RCPT"):
			return "503 5.5.1 MAIL first\r\n"
		}
		return "454 4.7.0 TLS not available\r\n"
	}), Identity{Name: "v.example"}, quick, "a@h.example", "b@h.example")
	if f, ok := err.(*Failure); !ok || f.Step != StepTLS || f.Trouble != NoTLS {
		t.Errorf("it failed with %v", err)
	}
	if got := strings.Join(heard, "; "); !strings.HasSuffix(got, "RCPT TO:<b@h.example>; STARTTLS; QUIT") || s.Room() != 0 {
		t.Errorf("the host heard %s", got)
	}
}

// TestWhatWasNotAnsweredHasNoAnswer holds the third question of a window of four
// to every way of not being answered.
func TestWhatWasNotAnsweredHasNoAnswer(t *testing.T) {
	for name, end := range map[string]struct {
		answer   string
		trouble  Trouble
		answered int // how many of the answers before it may be believed
	}{
		"hangs up":       {"hang up", Dropped, 0},
		"leaves one out": {"", Silent, 0},
		"says 421":       {"421 4.3.2 closing\r\n", Refused, 2},
		"babbles":        {"yes, why not\r\n", Garbled, 0},
		"runs on":        {strings.Repeat("z", maxLine+10) + "\r\n", Garbled, 0},
		"has many lines": {strings.Repeat("250-ok\r\n", maxReplyLines) + "250 ok\r\n", Garbled, 0},
		"has long lines": {strings.Repeat("250-"+strings.Repeat("ok, ", 100)+"\r\n", maxReply/400+1) + "250 ok\r\n", Garbled, 0},
	} {
		t.Run(name, func(t *testing.T) {
			n := 0
			s, err := open(t, scripted(t, "220 host\r\n", polite(func(string) string {
				if n++; n == 3 {
					return end.answer
				}
				return "250 ok\r\n"
			})))
			if err != nil {
				t.Fatal(err)
			}
			for i, a := range s.Ask([]string{"a@h.example", "b@h.example", "c@h.example", "d@h.example"}, nil) {
				if a.Answered != (i < end.answered) {
					t.Errorf("mailbox %d: %+v", i, a)
				}
			}
			if f := s.Failure(); f == nil || f.Trouble != end.trouble {
				t.Errorf("it failed with %v, want %s", f, end.trouble)
			}
		})
	}
}

func TestAReplyTooManyIsNoticed(t *testing.T) {
	for _, questions := range []int{4, 12} { // noticed at QUIT, and at the next window
		n := 0
		s, err := open(t, scripted(t, "220 host\r\n", polite(func(string) string {
			if n++; n == 3 {
				return "250 ok\r\n550 5.1.1 no\r\n"
			}
			return "250 ok\r\n"
		})))
		if err != nil {
			t.Fatal(err)
		}
		s.Ask(strings.Split(strings.Repeat("x@h.example ", questions-1)+"x@h.example", " "), nil)
		s.Close()
		if f := s.Failure(); f == nil || f.Trouble != OutOfStep {
			t.Errorf("%d questions: it failed with %v", questions, f)
		}
	}
}

func TestBeforeTheFirstQuestion(t *testing.T) {
	refuse := func(command, reply string) func(string) string {
		usual := polite(nil)
		return func(line string) string {
			if strings.HasPrefix(line, command) {
				return reply
			}
			return usual(line)
		}
	}
	for _, c := range []struct {
		name, greeting string
		answer         func(string) string
		step           Step
		trouble        Trouble
	}{
		{"no greeting", "", polite(nil), StepGreeting, Silent},
		{"refused at the banner", "554 5.7.1 no\r\n", polite(nil), StepGreeting, Refused},
		{"not a mail host", "SSH-2.0-host\r\n", polite(nil), StepGreeting, Garbled},
		{"EHLO refused", "220 host\r\n", refuse("EHLO", "550 go away\r\n"), StepHello, Refused},
		{"sender refused", "220 host\r\n", refuse("MAIL", "550 5.1.8 bad sender\r\n"), StepMail, Refused},
		{"TLS demanded, not offered", "220 host\r\n", refuse("MAIL", "530 5.7.0 Must issue a STARTTLS command first\r\n"), StepTLS, NoTLS},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, err := open(t, scripted(t, c.greeting, c.answer))
			f, ok := err.(*Failure)
			if !ok || f.Step != c.step || f.Trouble != c.trouble || s.Room() != 0 {
				t.Errorf("got %v", err)
			}
		})
	}
	t.Run("HELO where EHLO is not known", func(t *testing.T) {
		s, err := open(t, scripted(t, "220 host\r\n", refuse("EHLO", "502 what\r\n")))
		if err != nil || s.Offers("PIPELINING") {
			t.Errorf("got %v", err)
		}
	})
	t.Run("our own time is up", func(t *testing.T) {
		ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
		defer cancel()
		_, err := Open(ctx, scripted(t, "", nil), Identity{}, quick)
		if f, ok := err.(*Failure); !ok || f.Trouble != OutOfTime {
			t.Errorf("got %v", err)
		}
	})
}

func TestNoCommandHoldsALineEnd(t *testing.T) {
	var heard []string
	s, err := open(t, scripted(t, "220 host\r\n", func(line string) string {
		heard = append(heard, line)
		return polite(func(string) string { return "250 ok\r\n" })(line)
	}))
	if err != nil {
		t.Fatal(err)
	}
	for _, evil := range []string{"a@h.example>\r\nDATA\r\n", "a\n@h.example", "a\x00@h.example"} {
		if a := s.Ask([]string{evil}, nil); a[0].Answered {
			t.Errorf("%q was asked", evil)
		}
	}
	for _, line := range heard {
		if strings.Contains(line, "DATA") || strings.Contains(line, "RCPT") {
			t.Errorf("the host heard %q", line)
		}
	}
}

// FuzzConversation lets a host say anything at all: it must neither hang us,
// break us, nor make an answer out of nothing.
func FuzzConversation(f *testing.F) {
	f.Add("220 host\r\n", "250-a\r\n250 PIPELINING\r\n", "250 ok\r\n", "550 5.1.1 no\r\n")
	f.Add("220-\r\n", "250\r\n", "\r\n", "421 bye\r\n")
	f.Add("554 no\r\n", "\x00\xff", "99999", "250-never ending\r\n")
	f.Fuzz(func(t *testing.T, greeting, hello, mail, rcpt string) {
		if greeting == "" {
			return
		}
		l := quick
		l.Waits = l.Waits.All(20 * time.Millisecond)
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		conn := scripted(t, greeting, func(line string) string {
			switch line[:min(4, len(line))] {
			case "EHLO", "HELO":
				return hello
			case "MAIL":
				return mail
			}
			return rcpt
		})
		s, err := Open(ctx, conn, Identity{Name: "v.example"}, l)
		defer func() { holdTexts(t, s) }()
		if err != nil {
			if s.Room() != 0 {
				t.Fatal("a failed session has room")
			}
			return
		}
		for _, a := range s.Ask([]string{"a@h.example", "b@h.example", "c@h.example"}, nil) {
			if a.Answered && (a.Reply.Code < 200 || a.Reply.Code > 599 || a.Reply.Code == 421) {
				t.Fatalf("an answer out of nothing: %+v", a)
			}
			holdText(t, a.Reply.String())
		}
		s.Close()
	})
}

// holdTexts checks that a database takes all that is kept of a session.
func holdTexts(t *testing.T, s *Session) {
	t.Helper()
	for _, l := range s.Lines() {
		holdText(t, l.Text)
	}
	if f := s.Failure(); f != nil {
		holdText(t, f.Error())
		holdText(t, f.Reply.String())
	}
}

func holdText(t *testing.T, said string) {
	t.Helper()
	if !utf8.ValidString(said) || strings.Contains(said, "\x00") {
		t.Errorf("%q contains NUL, or is not UTF-8", said)
	}
}

// TestTheSameReplyAgain: a reply like the one before is read as it was; one that only
// begins like it, or goes on, is not.
func TestTheSameReplyAgain(t *testing.T) {
	replies := []string{"250 2.1.5 ok", "250 2.1.5 ok", "250 2.1.5 ok and more", "250 2.1.5 ok", "250-2.1.5 ok\r\n250 2.1.5 here", "250 2.1.5 ok", "550 5.1.1 gone", "550 5.1.1 gone",
		"250 2.1.5 ok", "250", "250", "250 2.1.5 \xff", "250 2.1.5 \xff", "250 2.1.5 ok"}
	n := 0
	s, err := open(t, scripted(t, "220 host\r\n", polite(func(string) string { n++; return replies[n-1] + "\r\n" })))
	if err != nil {
		t.Fatal(err)
	}
	var mailboxes []string
	for i := range replies {
		mailboxes = append(mailboxes, fmt.Sprintf("a%d@host.example", i))
	}
	for i, a := range s.Ask(mailboxes, nil) {
		want, ok := ParseReply(Decode([]byte(replies[i])))
		if !ok || !a.Answered || a.Reply.String() != want.String() || a.Reply.Enhanced != want.Enhanced || len(a.Reply.Lines) != len(want.Lines) {
			t.Errorf("%q is read as %+v; want %+v", replies[i], a.Reply, want)
		}
	}
	if s.Close(); s.Failure() != nil {
		t.Error(s.Failure())
	}
}

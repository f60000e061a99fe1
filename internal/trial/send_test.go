package trial

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/jackc/pgx/v5"

	"varnet/internal/connect"
	"varnet/internal/rights"
	"varnet/internal/store"
	"varnet/internal/store/storetest"
	"varnet/internal/testkit"
)

// submission is a submission server that answers each command by its verb, "." being the end of a letter; "" hangs up.
func submission(t *testing.T, answers map[string]string) (host string, port int) {
	t.Helper()
	at := testkit.Answer(t, func(c net.Conn) {
		in := bufio.NewScanner(c)
		_, _ = fmt.Fprint(c, "220 smtp.fernhollow.example\r\n")
		for data := false; in.Scan(); {
			verb := strings.ToUpper(strings.SplitN(in.Text(), " ", 2)[0])
			if data && verb != "." {
				continue
			}
			answer, own := answers[verb]
			switch {
			case own && answer == "":
				return
			case own:
			case verb == "EHLO":
				answer = "250-smtp.fernhollow.example\r\n250 PIPELINING"
			case verb == "DATA":
				answer = "354 go on"
			case verb == "QUIT":
				answer = "221 bye"
			default:
				answer = "250 ok"
			}
			data = strings.HasPrefix(answer, "354")
			_, _ = fmt.Fprint(c, answer+"\r\n")
		}
	})
	host, text, _ := net.SplitHostPort(at)
	port, err := strconv.Atoi(text)
	if err != nil {
		t.Fatal(err)
	}
	return host, port
}

// TestHand: how far a letter came is known, so that one that was not taken leaves again, and one that may have been does not.
func TestHand(t *testing.T) {
	for name, c := range map[string]struct {
		answers map[string]string
		at      step
		code    int // of the refusal; 0: the line broke, or all is well
		broke   bool
	}{
		"taken":                     {nil, atEnd, 0, false},
		"the sender is refused":     {map[string]string{"MAIL": "550 5.4.5 Daily limit reached"}, atSender, 550, false},
		"the sender is put off":     {map[string]string{"MAIL": "451 4.3.0 Later"}, atSender, 451, false},
		"breaks off at the sender":  {map[string]string{"MAIL": ""}, atSender, 0, true},
		"the address is refused":    {map[string]string{"RCPT": "550 5.1.1 No such user"}, atRecipient, 550, false},
		"breaks off at the address": {map[string]string{"RCPT": ""}, atRecipient, 0, true},
		"takes no letter":           {map[string]string{"DATA": "452 4.2.2 Full"}, atRecipient, 452, false},
		"the letter is refused":     {map[string]string{".": "554 5.7.1 Spam"}, atEnd, 554, false},
		"breaks off at the end":     {map[string]string{".": ""}, atEnd, 0, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := round{Post: post(t), sender: store.TrialSender{Security: "none", Sender: sender().Sender}}
			r.Env = connect.Env{AllowPrivate: true}
			r.sender.Host, r.sender.Port = submission(t, c.answers)
			if err := r.connect(t.Context()); err != nil {
				t.Fatal(err)
			}
			defer r.end()
			at, err := r.hand("letters@fernhollow.example", "ada@upperloam.example", []byte("Subject: Seeds\r\n\r\n.\r\nSpring\r\n"))
			var refusal *smtp.SMTPError
			if refused := errors.As(err, &refusal); at != c.at || refused != (c.code > 0) || refused && refusal.Code != c.code || (err != nil && !refused) != c.broke {
				t.Errorf("at %d: %v", at, err)
			}
			if c.code > 0 && c.at < atEnd { // a refusal does not end the session
				if at, err := r.hand("letters@fernhollow.example", "ben@upperloam.example", nil); errors.As(err, &refusal) && at != c.at {
					t.Errorf("the next one: at %d: %v", at, err)
				}
			}
		})
	}
}

// TestTakesNoLetters: what a submission server says before any letter is why none leaves.
func TestTakesNoLetters(t *testing.T) {
	r := round{Post: post(t), sender: store.TrialSender{Security: "none", Sender: sender().Sender}}
	r.Env = connect.Env{AllowPrivate: true}
	r.sender.Host, r.sender.Port = submission(t, map[string]string{"EHLO": "554 5.7.1 Not you", "HELO": "554 5.7.1 Not you"})
	var f *failure
	if err := r.connect(t.Context()); !errors.As(err, &f) || !strings.HasPrefix(f.Error(), "The submission server 127.0.0.1:") || !strings.Contains(f.Error(), "takes no letters: ") || !strings.Contains(f.Error(), "Not you") {
		t.Error(err)
	}
	if r.client != nil {
		t.Error("the session is kept")
	}
}

// TestTook: an address had its letter once that was taken, or may have been; one that was refused, or put off, may
// get another.
func TestTook(t *testing.T) {
	s, ctx := storetest.Open(t), t.Context()
	s.FingerprintBy(rights.Fingerprints(testkit.Secrets(t)))
	w, err := s.NewWorkspace(ctx, "Fernhollow Seed Library")
	if err != nil {
		t.Fatal(err)
	}
	m := store.Mailing{WorkspaceID: w.ID, Name: "Spring", State: store.MailingSending, SentAt: time.Now(), WatchHours: 72}
	if err := s.NewMailing(ctx, &m); err != nil {
		t.Fatal(err)
	}
	for number, c := range []struct {
		what  string
		at    step
		said  error
		state string
		had   bool
	}{
		{"taken", atEnd, nil, store.TrialSent, true},
		{"the address is refused", atRecipient, &smtp.SMTPError{Code: 550, Message: "No such user"}, store.TrialRefused, false},
		{"the letter is refused", atEnd, &smtp.SMTPError{Code: 554, Message: "Spam"}, store.TrialRefused, false},
		{"it is put off", atRecipient, &smtp.SMTPError{Code: 451, Message: "Later"}, store.TrialWaiting, false},
		{"the sender is refused", atSender, &smtp.SMTPError{Code: 550, Message: "Daily limit reached"}, store.TrialWaiting, false},
		{"the line breaks before the letter", atRecipient, io.EOF, store.TrialWaiting, false},
		{"the line breaks after it", atEnd, io.EOF, store.TrialSending, true},
	} {
		l := store.TrialLetter{MailingID: m.ID, Number: number + 1, Operator: "op.example", Mailbox: fmt.Sprintf("member%d@upperloam.example", number)}
		l.Canonical = l.Mailbox
		if err := s.InTx(ctx, func(_ *store.Store, tx pgx.Tx) error {
			_, err := tx.Exec(ctx, `WITH m AS (INSERT INTO mailed (mailing_id, number, workspace_id, mailbox, canonical, domain, said) VALUES ($1, $2, $3, $4, $4, 'upperloam.example', 0))
				INSERT INTO trial_letter (mailing_id, number, operator) VALUES ($1, $2, $5)`, m.ID, l.Number, w.ID, l.Mailbox, l.Operator)
			return err
		}); err != nil {
			t.Fatal(err)
		}
		now := time.Now()
		if claimed, err := s.ClaimTrialLetter(ctx, w.ID, l, now); err != nil || !claimed {
			t.Fatalf("%s: not claimed (%v)", c.what, err)
		}
		r := round{Post: &Post{Store: s}, m: m, sender: sender()}
		_, err := r.took(ctx, l, now, c.at, c.said)
		var stops *failure
		if err != nil && !errors.As(err, &stops) {
			t.Fatal(err)
		}
		had, err := s.SentTrials(ctx, w.ID, []string{l.Canonical})
		if err != nil {
			t.Fatal(err)
		}
		var state string
		if err := s.Pool().QueryRow(ctx, "SELECT state FROM trial_letter WHERE mailing_id = $1 AND number = $2", m.ID, l.Number).Scan(&state); err != nil {
			t.Fatal(err)
		}
		if state != c.state || had[l.Canonical] != c.had {
			t.Errorf("%s: the letter is %s and had is %v, not %s and %v", c.what, state, had[l.Canonical], c.state, c.had)
		}
	}
}

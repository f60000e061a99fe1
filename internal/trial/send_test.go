package trial

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"testing"

	"github.com/emersion/go-smtp"

	"varnet/internal/connect"
	"varnet/internal/store"
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

package practice

import (
	"bytes"
	"cmp"
	_ "embed"
	"errors"
	"fmt"
	"net"
	"net/url"
	"time"

	"github.com/emersion/go-smtp"
)

// DKIMKey is the private key whose record the world fernhollow publishes at
// varnet._domainkey.fernhollow.example. It is for practice alone.
//
//go:embed dkim.pem
var DKIMKey string

// PassOn has the letterbox pass letters on to the mail hosts of its world. They take them all,
// and afterwards send by themselves what comes back (ComesBack): notices in eight styles,
// warnings, complaints, absence notes; forwarders has some name only the address behind their
// forwarding. Seconds stand for the
// hours of real hosts: each message comes after that time, and at most twice that. returns is
// where the mail server of the return addresses hands over, such as lmtp://127.0.0.1:8027.
func (b *Letterbox) PassOn(w *World, returns string, after time.Duration, forwarders bool) error {
	place, err := url.Parse(returns)
	if err != nil || place.Host == "" || place.Scheme != "lmtp" && place.Scheme != "smtp" {
		return fmt.Errorf("what comes back is handed over at a place such as lmtp://127.0.0.1:8027, not %q", returns)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.passOn = func(l Delivered) {
		for _, back := range w.ComesBack([]Posted{{To: l.To, ID: l.ID, ReturnPath: l.From, At: l.At}}, forwarders) {
			wait := after + time.Duration(drawn(l.ID)%1000)*after/1000
			time.AfterFunc(wait, func() { b.sendBack(place, l.From, back.Message) })
		}
	}
	return nil
}

// Passed returns to whom letters were passed on.
func (b *Letterbox) Passed() []Posted {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]Posted(nil), b.passed...)
}

// The bounds of sending back.
const (
	backTries = 5
	backWait  = 2 * time.Second // between two, where the place does not answer or says "later"
)

// sendBack hands a message to a return address. What is refused for good is dropped, as hosts
// do with bounces of bounces.
func (b *Letterbox) sendBack(place *url.URL, to string, message []byte) {
	for range backTries {
		err := handBack(place, to, message)
		var refusal *smtp.SMTPError
		if err == nil || errors.As(err, &refusal) && !refusal.Temporary() {
			return
		}
		time.Sleep(backWait)
	}
}

func handBack(place *url.URL, to string, message []byte) error {
	conn, err := net.DialTimeout("tcp", place.Host, backWait)
	if err != nil {
		return err
	}
	c := smtp.NewClient(conn)
	if place.Scheme == "lmtp" {
		c = smtp.NewClientLMTP(conn)
	}
	defer c.Close()
	if err := cmp.Or(c.Hello("mx.letterbox.invalid"), c.Mail("", nil)); err != nil {
		return err
	}
	if err := c.Rcpt(to, nil); err != nil {
		return err
	}
	out, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := out.Write(bytes.ReplaceAll(message, []byte("\n"), []byte("\r\n"))); err != nil {
		return err
	}
	return cmp.Or(out.Close(), c.Quit())
}

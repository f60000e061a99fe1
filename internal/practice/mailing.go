package practice

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"net/netip"
	"net/smtp"
	"net/textproto"
	"strings"
	"sync"
	"time"

	"varnet/core/resolve"
)

// mailingFrom is the address a mailing goes out from: another machine than the
// one that verified, as in life.
const mailingFrom = "127.0.0.9"

// Mailing is what became of a message to each of some mailboxes.
type Mailing struct {
	Delivered []string
	// Bounced are those refused at once or sent back later.
	Bounced []string
	// Deferred found no host that took a message in time.
	Deferred []string
}

// Send really sends a message to every mailbox, to one recipient at a time, and
// tries again what is put off. Operators are served side by side.
func (i *Internet) Send(mailboxes []string) (Mailing, error) {
	names, err := resolve.New([]string{i.DNS}, true)
	if err != nil {
		return Mailing{}, err
	}
	byOperator := map[*Operator][]string{}
	for _, m := range mailboxes {
		o := i.World.byDomain[domainOf(m)]
		byOperator[o] = append(byOperator[o], m)
	}
	var all Mailing
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, some := range byOperator {
		wg.Go(func() {
			m := i.sendSome(names, some)
			mu.Lock()
			defer mu.Unlock()
			all.Delivered = append(all.Delivered, m.Delivered...)
			all.Bounced = append(all.Bounced, m.Bounced...)
			all.Deferred = append(all.Deferred, m.Deferred...)
		})
	}
	wg.Wait()
	return all, nil
}

func domainOf(mailbox string) string { return mailbox[strings.LastIndexByte(mailbox, '@')+1:] }

// givesUp is after how many messages in a row that no host of an operator took
// the rest is held back, as sending tools do.
const givesUp = 12

// sideBySide is how many messages an operator gets at a time.
const sideBySide = 12

func (i *Internet) sendSome(names *resolve.Resolver, mailboxes []string) (m Mailing) {
	var mu sync.Mutex
	var wg sync.WaitGroup
	inVain, free := 0, make(chan struct{}, sideBySide)
	for _, mailbox := range mailboxes {
		free <- struct{}{}
		wg.Go(func() {
			defer func() { <-free }()
			mu.Lock()
			err := errHeldBack
			if inVain < givesUp {
				mu.Unlock()
				err = i.sendPatiently(names, mailbox)
				mu.Lock()
			}
			defer mu.Unlock()
			var told *textproto.Error
			switch {
			case errors.As(err, &told) && told.Code >= 500, err == nil && !i.World.Truth(Canonical(mailbox)).Deliverable():
				m.Bounced, inVain = append(m.Bounced, mailbox), 0
			case err != nil:
				m.Deferred, inVain = append(m.Deferred, mailbox), inVain+1
			default:
				m.Delivered, inVain = append(m.Delivered, mailbox), 0
			}
		})
	}
	wg.Wait()
	return m
}

var errHeldBack = errors.New("held back: no host of this operator takes messages")

func (i *Internet) sendPatiently(names *resolve.Resolver, mailbox string) (err error) {
	for try := range 5 {
		// Not all at once: some hosts take one connection at a time.
		time.Sleep(time.Duration(try) * (500*time.Millisecond + rand.N(500*time.Millisecond)))
		err = i.send(names, mailbox)
		var told *textproto.Error
		if err == nil || errors.As(err, &told) && told.Code >= 500 {
			return err
		}
	}
	return err
}

// send hands one message to the first exchanger of the mailbox's domain that
// takes it.
func (i *Internet) send(names *resolve.Resolver, mailbox string) (err error) {
	d := names.Lookup(context.Background(), domainOf(mailbox))
	if c, hopeless := d.Outcome.Cause(); hopeless {
		if d.Outcome == resolve.Failed {
			return errors.New(string(c))
		}
		return &textproto.Error{Code: 550, Msg: string(c)}
	}
	for _, x := range d.Exchangers {
		for _, ip := range x.Addrs {
			var told *textproto.Error
			err = i.sendTo(netip.AddrPortFrom(ip, uint16(i.Port)), mailbox)
			if err == nil || errors.As(err, &told) && told.Code >= 500 {
				return err
			}
		}
	}
	return err
}

func (i *Internet) sendTo(to netip.AddrPort, mailbox string) error {
	from := net.Dialer{Timeout: 2 * time.Second}
	if to.Addr().Is4() {
		from.LocalAddr = &net.TCPAddr{IP: net.ParseIP(mailingFrom)}
	}
	conn, err := from.Dial("tcp", to.String())
	if err != nil {
		return err
	}
	_ = conn.SetDeadline(time.Now().Add(3 * time.Second))
	defer conn.Close()
	c, err := smtp.NewClient(conn, to.Addr().String())
	if err != nil {
		return err
	}
	return hand(c, mailbox)
}

func hand(c *smtp.Client, mailbox string) error {
	if err := c.Hello("newsletter.fernhollow.example"); err != nil {
		return err
	}
	if ok, _ := c.Extension("STARTTLS"); ok {
		if err := c.StartTLS(trusting); err != nil {
			return err
		}
	}
	if err := c.Mail("newsletter@fernhollow.example"); err != nil {
		return err
	}
	if err := c.Rcpt(mailbox); err != nil {
		return err
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := w.Write([]byte("Subject: Seeds of the season\r\n\r\nThe broad beans are in.\r\n")); err != nil {
		return err
	}
	if err := w.Close(); err != nil {
		return err
	}
	return c.Quit()
}

package practice

import (
	"errors"
	"net"
	"net/netip"
	"net/smtp"
	"net/textproto"
	"strings"
	"sync"
	"time"
)

// sendingTool is the address a mailing goes out from: another machine than the
// one that verified, as in life.
const sendingTool = "127.0.0.9"

// Mailing is what became of a message to each of some mailboxes.
type Mailing struct {
	Delivered int
	// Bounced are those refused at once or sent back later.
	Bounced []string
	// Deferred found no host that took a message in time.
	Deferred []string
}

// Send really sends a message to every mailbox, to one recipient at a time, and
// tries again what is put off.
func (i *Internet) Send(mailboxes []string) Mailing {
	var m Mailing
	var mu sync.Mutex
	var wg sync.WaitGroup
	free := make(chan struct{}, 24)
	for _, mailbox := range mailboxes {
		free <- struct{}{}
		wg.Go(func() {
			defer func() { <-free }()
			err := i.sendPatiently(mailbox)
			mu.Lock()
			defer mu.Unlock()
			var told *textproto.Error
			switch {
			case errors.As(err, &told) && told.Code >= 500, err == nil && !i.World.Truth(Canonical(mailbox)).Deliverable():
				m.Bounced = append(m.Bounced, mailbox)
			case err != nil:
				m.Deferred = append(m.Deferred, mailbox)
			default:
				m.Delivered++
			}
		})
	}
	wg.Wait()
	return m
}

func (i *Internet) sendPatiently(mailbox string) (err error) {
	for try := range 6 {
		time.Sleep(time.Duration(try) * 700 * time.Millisecond)
		err = i.send(mailbox)
		var told *textproto.Error
		if err == nil || errors.As(err, &told) && told.Code >= 500 {
			return err
		}
	}
	return err
}

// send hands one message to the first host of the mailbox's operator that
// takes the connection.
func (i *Internet) send(mailbox string) error {
	o, ok := i.World.byDomain[mailbox[strings.LastIndexByte(mailbox, '@')+1:]]
	if !ok {
		return &textproto.Error{Code: 550, Msg: "no such domain"}
	}
	from := net.Dialer{Timeout: 3 * time.Second, LocalAddr: &net.TCPAddr{IP: net.ParseIP(sendingTool)}}
	to := netip.AddrPortFrom(o.host(1), uint16(i.Port))
	if o.character.IPv6 {
		from.LocalAddr, to = nil, netip.AddrPortFrom(netip.IPv6Loopback(), uint16(i.Port))
	}
	conn, err := from.Dial("tcp", to.String())
	if err != nil {
		return err
	}
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
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

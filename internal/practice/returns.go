package practice

import (
	"bytes"
	"fmt"
	"io"
	"log"
	"net"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-imap/v2/imapserver/imapmemserver"
)

// Returns is a mailbox that bounces come to, read over IMAP without TLS.
type Returns struct {
	// Addr is where its server listens; User and Password are what it wants.
	Addr, User, Password string

	user *imapmemserver.User
}

// StartReturns starts the mailbox of a user, with an empty INBOX.
func (i *Internet) StartReturns(listen, user, password string) (*Returns, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("practice mailbox: %w", err)
	}
	r := &Returns{Addr: l.Addr().String(), User: user, Password: password, user: imapmemserver.NewUser(user, password)}
	if err := r.user.Create("INBOX", nil); err != nil {
		return nil, err
	}
	all := imapmemserver.New()
	all.AddUser(r.user)
	s := imapserver.New(&imapserver.Options{InsecureAuth: true, Logger: log.New(io.Discard, "", 0),
		Caps: imap.CapSet{imap.CapIMAP4rev1: {}, imap.CapUIDPlus: {}, imap.CapMove: {}},
		NewSession: func(*imapserver.Conn) (imapserver.Session, *imapserver.GreetingData, error) {
			return all.NewSession(), nil, nil
		}})
	go func() { _ = s.Serve(l) }()
	i.closers = append(i.closers, func() { _ = s.Close() })
	return r, nil
}

// Deliver puts a message into its INBOX.
func (r *Returns) Deliver(message []byte) error {
	_, err := r.user.Append("INBOX", literal{bytes.NewReader(message)}, &imap.AppendOptions{})
	return err
}

// Holds returns how many messages are in a folder, and how many of them were not seen; none
// where there is no such folder.
func (r *Returns) Holds(folder string) (messages, unseen int) {
	s, err := r.user.Status(folder, &imap.StatusOptions{NumMessages: true, NumUnseen: true})
	if err != nil {
		return 0, 0
	}
	return int(*s.NumMessages), int(*s.NumUnseen)
}

type literal struct{ *bytes.Reader }

// Size is how many bytes it has.
func (l literal) Size() int64 { return l.Reader.Size() }

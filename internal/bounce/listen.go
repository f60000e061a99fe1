package bounce

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"sync/atomic"
	"time"

	"github.com/emersion/go-smtp"
	"golang.org/x/net/netutil"

	"varnet/core/bounce"
	"varnet/internal/store"
)

// The bounds of a listener.
const (
	mostConnections = 100
	mostMessage     = 25 << 20 // bytes; of longer ones the host hears 552
	mostRecipients  = 50       // of one message
	mostPerSession  = 1000     // recipients that are asked about in one session
	listenTimeout   = time.Minute
	importTimeout   = 30 * time.Second
	tellEvery       = time.Minute
)

// Listener takes messages to return addresses of ours, handed over by a mail server by LMTP
// (RFC 2033) or SMTP. Whatever is not sent to a return address with a right tag is refused
// before its text.
type Listener struct {
	desk    *Desk
	log     *slog.Logger
	server  *smtp.Server
	refused atomic.Int64
	done    chan struct{}
}

// Listen listens at a place such as lmtp://127.0.0.1:8027.
func Listen(d *Desk, at string, log *slog.Logger) (*Listener, error) {
	place, err := url.Parse(at)
	if err != nil || place.Host == "" || place.Scheme != "lmtp" && place.Scheme != "smtp" {
		return nil, fmt.Errorf("messages are taken at a place such as lmtp://127.0.0.1:8027 or smtp://127.0.0.1:8027, not %q", at)
	}
	in, err := net.Listen("tcp", place.Host)
	if err != nil {
		return nil, fmt.Errorf("messages that come back cannot be taken at %s: %w", at, err)
	}
	l := &Listener{desk: d, log: log, done: make(chan struct{})}
	l.server = smtp.NewServer(l)
	l.server.LMTP, l.server.Domain, l.server.EnableSMTPUTF8 = place.Scheme == "lmtp", d.Tags.Domain, true
	l.server.MaxMessageBytes, l.server.MaxRecipients = mostMessage, mostRecipients
	l.server.ReadTimeout, l.server.WriteTimeout = listenTimeout, listenTimeout
	l.server.ErrorLog = slog.NewLogLogger(log.Handler(), slog.LevelDebug)
	go func() { _ = l.server.Serve(netutil.LimitListener(in, mostConnections)) }()
	go l.tell()
	return l, nil
}

// Close ends it; sessions that are under way end with it.
func (l *Listener) Close() {
	close(l.done)
	_ = l.server.Close()
	l.tellRefused(context.Background())
}

// tell says from time to time how many messages were refused.
func (l *Listener) tell() {
	every := time.NewTicker(tellEvery)
	defer every.Stop()
	for {
		select {
		case <-l.done:
			return
		case <-every.C:
			l.tellRefused(context.Background())
		}
	}
}

func (l *Listener) tellRefused(ctx context.Context) {
	n := l.refused.Swap(0)
	if n == 0 {
		return
	}
	l.log.Warn("messages to return addresses were refused: their tags are wrong", "messages", n)
	ctx, cancel := context.WithTimeout(ctx, importTimeout)
	defer cancel()
	if err := l.desk.Store.CountRefused(ctx, l.desk.Now(), n); err != nil {
		l.log.Warn("how many were refused is not kept", "err", err)
	}
}

// NewSession begins a session.
func (l *Listener) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{l: l}, nil }

// session is a session of a mail server.
type session struct {
	l     *Listener
	asked int
	to    []recipient
}

// recipient is a return address of ours, with the workspace of its mailing.
type recipient struct {
	address   string
	workspace int64
}

// Mail takes every sender: a notice has none, an auto-reply its own.
func (s *session) Mail(string, *smtp.MailOptions) error { s.to = nil; return nil }

// Rcpt takes return addresses with a right tag, and no other.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if s.asked++; s.asked > mostPerSession {
		return &smtp.SMTPError{Code: 421, EnhancedCode: smtp.EnhancedCode{4, 7, 0}, Message: "Too many recipients in one session; come again"}
	}
	key, ok := s.l.desk.Tags.letter(to)
	if !ok {
		if _, ours := s.l.desk.Tags.ours(to); ours { // others are not forgeries of ours
			s.l.refused.Add(1)
		}
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "No letter has this return address"}
	}
	ctx, cancel := context.WithTimeout(context.Background(), importTimeout)
	defer cancel()
	m, err := s.l.desk.Store.MailingAtWork(ctx, key.mailing)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "The mailing of this return address is gone"}
	case err != nil:
		return s.later(err)
	}
	s.to = append(s.to, recipient{to, m.WorkspaceID})
	return nil
}

// later puts a mail server off, which keeps the message.
func (s *session) later(err error) error {
	s.l.log.Warn("a message that came back was put off", "err", err)
	return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "It cannot be taken now; come again"}
}

// Data takes a message: once it says yes, what the message says is kept.
func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(io.LimitReader(r, bounce.Most))
	if err == nil {
		_, err = io.Copy(io.Discard, r) // the rest is of the message that came back
	}
	if err != nil {
		return err
	}
	for _, to := range s.to {
		if err := s.imports(to, raw); err != nil {
			return s.later(err)
		}
	}
	return nil
}

func (s *session) imports(to recipient, raw []byte) error {
	ctx, cancel := context.WithTimeout(context.Background(), importTimeout)
	defer cancel()
	given := false
	_, err := s.l.desk.Import(ctx, to.workspace, ByReturn, func() (Incoming, error) {
		if given {
			return Incoming{}, io.EOF
		}
		given = true
		return Incoming{Raw: raw, Envelope: to.address}, nil
	})
	return err
}

// Reset forgets the message under way.
func (s *session) Reset() { s.to = nil }

// Logout ends the session.
func (s *session) Logout() error { return nil }

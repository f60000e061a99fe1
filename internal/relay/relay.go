// Package relay is the relay of ours: a small program on a host that has port
// 25, which opens connections to mail hosts for the service.
//
// The protocol is HTTP CONNECT (RFC 9110 section 9.3.6) over TLS 1.3, with the
// relay's token in "Proxy-Authorization: Bearer TOKEN". The relay makes its
// certificate itself; the service knows it by its SHA-256. Targets are IP
// addresses with an SMTP port; addresses that no host of the public Internet
// can have are refused. Answers: 200, the connection stands; 407, the token is
// wrong; 403, the target is not allowed; 502, the target cannot be reached;
// 503, as many connections as allowed are open. The text says which and why.
package relay

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"varnet/core/probe"
	"varnet/core/resolve"
)

// Relay opens connections for its owner.
type Relay struct {
	// Tokens returns what the owner may show; it is asked for each connection.
	Tokens func() ([]string, error)
	// Ports are the ports that may be gone to.
	Ports []uint16
	// AllowPrivate lets private and loopback addresses through; the practice
	// internet needs it.
	AllowPrivate bool
	// Limit is how many connections may be open at once.
	Limit int
	Log   *slog.Logger

	mu   sync.Mutex
	open int
}

// Times of a connection. No conversation of ours takes longer than a minute.
const (
	dialing = 10 * time.Second
	life    = 2 * time.Minute
)

// Serve takes connections until ctx ends.
func (r *Relay) Serve(ctx context.Context, l net.Listener, cert tls.Certificate) error {
	server := &http.Server{Handler: r, ReadHeaderTimeout: 10 * time.Second, MaxHeaderBytes: 8 << 10,
		ErrorLog:     slog.NewLogLogger(r.Log.Handler(), slog.LevelDebug),
		TLSNextProto: map[string]func(*http.Server, *tls.Conn, http.Handler){}} // HTTP/1.1, whose connections can be taken over
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	err := server.Serve(tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{cert}}))
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// Fingerprint is what the relay is known by.
func Fingerprint(cert tls.Certificate) string {
	sum := sha256.Sum256(cert.Certificate[0])
	return hex.EncodeToString(sum[:])
}

// knows reports whether a token is one of this relay's.
func (r *Relay) knows(shown string, ok bool) bool {
	tokens, err := r.Tokens()
	if err != nil {
		r.Log.Error("nobody can be let through", "err", err)
	}
	known := 0
	for _, t := range tokens {
		known |= subtle.ConstantTimeCompare([]byte(shown), []byte(t))
	}
	return ok && known == 1
}

// ServeHTTP answers one request.
func (r *Relay) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	if !r.knows(strings.CutPrefix(q.Header.Get("Proxy-Authorization"), "Bearer ")) {
		r.refuse(w, q, http.StatusProxyAuthRequired, "the token is not that of this relay")
		return
	}
	if q.Method != http.MethodConnect {
		r.refuse(w, q, http.StatusMethodNotAllowed, "this is a relay of Varnet; it knows CONNECT alone")
		return
	}
	to, err := netip.ParseAddrPort(q.Host)
	switch {
	case err != nil:
		r.refuse(w, q, http.StatusForbidden, "the target is not an IP address with a port")
	case !slices.Contains(r.Ports, to.Port()):
		r.refuse(w, q, http.StatusForbidden, fmt.Sprintf("port %d is not a port of mail hosts; this relay goes to %v alone", to.Port(), r.Ports))
	case !r.AllowPrivate && !resolve.Public(to.Addr()):
		r.refuse(w, q, http.StatusForbidden, fmt.Sprintf("%s is not a public address", to.Addr()))
	case !r.take():
		r.refuse(w, q, http.StatusServiceUnavailable, fmt.Sprintf("%d connections are open, as many as this relay may have", r.Limit))
	default:
		defer r.give()
		r.connect(w, q, to)
	}
}

func (r *Relay) refuse(w http.ResponseWriter, q *http.Request, status int, says string) {
	r.Log.Warn("refused", "from", q.RemoteAddr, "status", status, "says", says)
	w.Header().Set("Connection", "close")
	http.Error(w, says, status)
}

func (r *Relay) take() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.open >= r.Limit {
		return false
	}
	r.open++
	return true
}

func (r *Relay) give() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.open--
}

// connect opens the connection and passes on what both sides say.
func (r *Relay) connect(w http.ResponseWriter, q *http.Request, to netip.AddrPort) {
	ctx, cancel := context.WithTimeout(q.Context(), dialing)
	defer cancel()
	host, err := probe.DirectDialer(r.AllowPrivate).DialContext(ctx, "tcp", to.String())
	if err != nil {
		w.Header().Set("Connection", "close")
		http.Error(w, fmt.Sprintf("%s cannot be reached: %v", to, err), http.StatusBadGateway)
		return
	}
	defer host.Close()
	client, ahead, err := http.NewResponseController(w).Hijack()
	if err != nil {
		http.Error(w, "the connection cannot be taken over", http.StatusInternalServerError)
		return
	}
	defer client.Close()
	end := time.Now().Add(life)
	_, _ = client.SetDeadline(end), host.SetDeadline(end)
	if _, err := io.WriteString(client, "HTTP/1.1 200 OK\r\n\r\n"); err != nil {
		return
	}
	done := make(chan struct{}, 2)
	pass := func(to io.Writer, from io.Reader) {
		_, _ = io.Copy(to, from)
		done <- struct{}{}
	}
	go pass(host, ahead.Reader)
	go pass(client, host)
	<-done // either side has ended: so does the other
}

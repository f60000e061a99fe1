package practice

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// idle is how long a host waits for a client before it hangs up.
const idle = 60 * time.Second

// Host is one mail host of the practice internet.
type Host struct {
	Name      string
	Addr      netip.Addr
	world     *World
	blocked   *blocked
	character *Character

	heard, said atomic.Int64 // bytes

	mu         sync.Mutex
	firstSeen  map[string]time.Time // greylisting
	stats      Stats
	rate       rate
	open       map[net.Conn]bool
	openFrom   map[string]int
	mostOpen   map[string]int
	listener   net.Listener
	port       int
	lastAsked  map[string]time.Time
	complained time.Time
}

// Stats is what a host saw of its clients.
type Stats struct {
	Heard, Said int64 // bytes of all sessions
	Mailings    int   // messages taken in
	Sessions    int
	Open        int
	MostOpen    int // sessions at the same time
	// MostOpenFrom is the same by the client's address, SessionsFrom all sessions.
	MostOpenFrom, SessionsFrom map[string]int
	Recipients                 int
	Refused                    int
	// Unknown are the recipients without a name of the world, those of a domain in a
	// session together.
	Unknown [][]string
	// Complaints are its complaints about us at a recipient; After are the recipients
	// asked about after one, in the session and for ten seconds.
	Complaints, After int
	// Abrupt are sessions that the client ended without QUIT.
	Abrupt int
}

// Stats returns what the host saw so far.
func (h *Host) Stats() Stats {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.stats
	s.Heard, s.Said = h.heard.Load(), h.said.Load()
	s.MostOpenFrom, s.SessionsFrom, s.Unknown = maps.Clone(h.mostOpen), maps.Clone(h.stats.SessionsFrom), slices.Clone(h.stats.Unknown)
	return s
}

// Character is how the host behaves.
func (h *Host) Character() Character { return *h.character }

// seenBefore notes a key and reports whether it was first seen at least that
// long ago.
func (h *Host) seenBefore(key string, ago time.Duration) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	t, ok := h.firstSeen[key]
	if !ok {
		h.firstSeen[key] = time.Now()
		return false
	}
	return time.Since(t) >= ago
}

func (h *Host) openOf(source string) int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.openFrom[source]
}

func newHost(name string, addr netip.Addr, w *World, c *Character) *Host {
	return &Host{Name: name, Addr: addr, world: w, character: c,
		firstSeen: map[string]time.Time{}, open: map[net.Conn]bool{},
		openFrom: map[string]int{}, mostOpen: map[string]int{}, lastAsked: map[string]time.Time{}, stats: Stats{SessionsFrom: map[string]int{}}}
}

func (h *Host) listen(port int) error {
	if h.port = port; h.character.Deaf {
		return nil
	}
	l, err := net.Listen("tcp", netip.AddrPortFrom(h.Addr, uint16(port)).String())
	if err != nil {
		return fmt.Errorf("practice host %s: %w", h.Name, err)
	}
	h.listener = l
	go h.accept(l)
	return nil
}

// Leave makes the host vanish: its sessions break off, and no connection comes
// about until it returns.
func (h *Host) Leave() { h.close() }

// Return brings a host back that left.
func (h *Host) Return() error { return h.listen(h.port) }

// LastAsked returns when the host was last asked about each mailbox, as it was
// written.
func (h *Host) LastAsked() map[string]time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	return maps.Clone(h.lastAsked)
}

func (h *Host) accept(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		h.mu.Lock()
		h.open[conn] = true
		h.stats.Sessions++
		h.stats.Open++
		h.stats.MostOpen = max(h.stats.MostOpen, h.stats.Open)
		from := sourceOf(conn)
		h.openFrom[from]++
		h.stats.SessionsFrom[from]++
		h.mostOpen[from] = max(h.mostOpen[from], h.openFrom[from])
		h.mu.Unlock()
		go func() {
			defer h.gone(conn)
			far, arrived := distant(counted{conn, h}, h.character.RoundTrip)
			(&peer{host: h, conn: far, in: bufio.NewReader(far), out: bufio.NewWriter(far), source: sourceOf(conn)}).serve()
			arrived()
		}()
	}
}

// counted counts the bytes of a session.
type counted struct {
	net.Conn
	host *Host
}

func (c counted) Read(b []byte) (int, error) {
	n, err := c.Conn.Read(b)
	c.host.heard.Add(int64(n))
	return n, err
}

func (c counted) Write(b []byte) (int, error) {
	n, err := c.Conn.Write(b)
	c.host.said.Add(int64(n))
	return n, err
}

func (h *Host) gone(conn net.Conn) {
	h.mu.Lock()
	delete(h.open, conn)
	h.stats.Open--
	h.openFrom[sourceOf(conn)]--
	h.mu.Unlock()
	_ = conn.Close() // the client sees the end when the host has counted it
}

func (h *Host) close() {
	if h.listener != nil {
		_ = h.listener.Close()
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.open {
		_ = c.Close()
	}
}

func sourceOf(conn net.Conn) string {
	host, _, _ := net.SplitHostPort(conn.RemoteAddr().String())
	return host
}

// peer is a host's side of one session.
type peer struct {
	host   *Host
	conn   net.Conn
	in     *bufio.Reader
	out    *bufio.Writer
	source string

	verb, args string
	helloed    bool
	inMail     bool
	sender     string
	recipients int // RCPT commands so far in the session
	refused    int
	taken      []string // recipients of this transaction
	encrypted  bool
	unknown    map[string]map[string]bool // made-up recipients of the session, by domain
	complained bool
}

func (p *peer) serve() {
	greeting := "220 " + p.host.Name + " practice mail host"
	if g := p.host.character.Greet; g != nil {
		greeting = orElse(g(p), greeting)
	}
	if most := p.host.character.Sessions; most > 0 && p.host.openOf(p.source) > most {
		greeting = "421 4.7.0 Too many connections from your address"
	}
	if p.host.blocked != nil && p.host.blocked.has(p.source, p.host.Name) {
		greeting = fmt.Sprintf("554 5.7.1 Service refused: your address %s is on our blocklist", p.source)
	}
	if !p.say(greeting) || strings.HasPrefix(greeting, "421") {
		return
	}
	defer p.tellUnknown()
	for {
		_ = p.conn.SetDeadline(time.Now().Add(idle))
		line, err := p.in.ReadSlice('\n')
		if err != nil {
			p.host.abrupt()
			return
		}
		answer := p.answer(strings.TrimRight(string(line), "\r\n"))
		if !p.say(answer) || strings.HasPrefix(answer, "221") || strings.HasPrefix(answer, "421") {
			return
		}
	}
}

// say sends a reply; it flushes when the client waits for it. It is false when
// the session is over.
func (p *peer) say(answer string) bool {
	if l := p.host.character.Latency; l > 0 {
		time.Sleep(l)
	}
	switch answer {
	case hangUp:
		_ = p.out.Flush()
		return false
	case hangUpAtOnce:
		return false
	case nothing:
		return true
	case silence:
		_, _ = io.Copy(io.Discard, p.conn) // until the client gives up
		return false

	}
	if raw, ok := strings.CutPrefix(answer, verbatim); ok {
		_, _ = p.out.WriteString(raw)
		return p.out.Flush() == nil
	}
	lines := strings.Split(answer, "\n")
	for i, l := range lines {
		if i < len(lines)-1 {
			l = l[:3] + "-" + l[4:]
		}
		_, _ = p.out.WriteString(l + "\r\n")
	}
	if p.in.Buffered() == 0 || answer[0] == '4' && answer[1] == '2' {
		return p.out.Flush() == nil
	}
	return true
}

func (p *peer) answer(line string) string {
	verb, args, _ := strings.Cut(line, " ")
	p.verb, p.args = strings.ToUpper(verb), args
	switch p.verb {
	case "EHLO", "HELO":
		return p.hello()
	case "MAIL":
		return p.mail(path(args))
	case "RCPT":
		return p.rcpt(path(args))
	case "DATA":
		return p.data()
	case "STARTTLS":
		return p.startTLS()
	case "RSET":
		p.inMail, p.taken = false, nil
		return "250 2.0.0 Ok"
	case "NOOP":
		return "250 2.0.0 Ok"
	case "QUIT":
		return "221 2.0.0 Bye"
	}
	return "502 5.5.1 Command not known here"
}

func (p *peer) hello() string {
	p.helloed = true
	if h := p.host.character.Hello; h != nil {
		if a := h(p); a != "" {
			return a
		}
	}
	if p.verb == "HELO" {
		return "250 " + p.host.Name
	}
	lines := "250 " + p.host.Name + " sees [" + p.source + "]\n250 SIZE 20000000\n250 ENHANCEDSTATUSCODES"
	if !p.host.character.NoPipelining {
		lines += "\n250 PIPELINING"
	}
	if p.host.character.TLS && !p.encrypted {
		lines += "\n250 STARTTLS"
	}
	if p.host.character.UTF8 {
		lines += "\n250 SMTPUTF8"
	}
	return lines + "\n250 8BITMIME"
}

// startTLS takes the session into TLS, with a certificate of the host's own
// making.
func (p *peer) startTLS() string {
	if !p.host.character.TLS || p.encrypted {
		return "502 5.5.1 Command not known here"
	}
	if !p.say("220 2.0.0 Go ahead") {
		return hangUp
	}
	t := tls.Server(p.conn, &tls.Config{Certificates: []tls.Certificate{certificate()}})
	if p.host.character.OldTLS && p.isUs() {
		return hangUp // after what no handshake of today begins with
	}
	if err := t.Handshake(); err != nil {
		return hangUp
	}
	p.conn, p.encrypted, p.helloed, p.inMail = t, true, false, false
	p.in.Reset(t)
	p.out.Reset(t)
	return nothing
}

// data takes a message in and keeps nothing of it.
func (p *peer) data() string {
	if len(p.taken) == 0 {
		return "503 5.5.1 Say RCPT TO first"
	}
	if !p.say("354 Go on") {
		return hangUp
	}
	_ = p.out.Flush()
	for {
		line, err := p.in.ReadString('\n')
		if err != nil {
			return hangUp
		}
		if line == ".\r\n" {
			break
		}
	}
	taken := p.taken
	p.host.mu.Lock()
	p.host.stats.Mailings++
	p.host.mu.Unlock()
	p.inMail, p.taken = false, nil
	if d := p.host.character.Data; d != nil {
		if a := d(p, taken); a != "" {
			return a
		}
	}
	return "250 2.0.0 Taken in"
}

func (p *peer) mail(sender string) string {
	if !p.helloed {
		return "503 5.5.1 Say EHLO first"
	}
	p.sender = sender
	if m := p.host.character.Mail; m != nil {
		if a := m(p, sender); a != "" {
			return a
		}
	}
	if !p.host.character.UTF8 && strings.Contains(p.args, "SMTPUTF8") {
		return "555 5.5.4 SMTPUTF8 is not known here"
	}
	p.inMail, p.taken = true, nil
	return "250 2.1.0 Ok"
}

func (p *peer) rcpt(mailbox string) string {
	if !p.inMail {
		return "503 5.5.1 Say MAIL FROM first"
	}
	p.recipients++
	p.noteUnknown(Canonical(mailbox))
	time.Sleep(p.host.character.PerRecipient)
	truth := p.host.world.Truth(Canonical(mailbox))
	answer := ""
	if r := p.host.character.Rcpt; r != nil {
		answer = r(p, mailbox, truth)
	}
	answer = orElse(answer, plainRcpt(mailbox, truth))
	answer = p.noteComplaint(answer)
	refused := answer[0] != '2'
	if refused {
		p.refused++
	} else {
		p.taken = append(p.taken, mailbox)
	}
	p.host.mu.Lock()
	defer p.host.mu.Unlock()
	p.host.stats.Recipients++
	if p.host.world.Remember {
		p.host.lastAsked[mailbox] = time.Now()
	}
	if refused {
		p.host.stats.Refused++
	}
	return answer
}

// path takes the mailbox out of FROM:<…> and TO:<…>.
func path(args string) string {
	open, end := strings.IndexByte(args, '<'), strings.LastIndexByte(args, '>')
	if open < 0 || end < open {
		return ""
	}
	return args[open+1 : end]
}

func orElse(s, other string) string {
	if s != "" {
		return s
	}
	return other
}

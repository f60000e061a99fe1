package practice

import (
	"bufio"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"varnet/core/resolve"
)

// Outbound is what a world holds for trying outbound out.
type Outbound struct {
	// Names are the reverse names of addresses; each leads back.
	Names map[string]string `json:"names"`
	// Texts are TXT records by name, such as SPF records.
	Texts map[string]string `json:"texts"`
	// Blocklist is a DNS zone after RFC 5782.
	Blocklist string `json:"blocklist"`
	// Blocked are addresses that every mail host refuses, and the zone lists.
	Blocked []netip.Addr `json:"blocked"`
	// Proxies are started by "varnet practice".
	Proxies []Proxy `json:"proxies"`
	// Liar is where a resolver listens that answers for any name.
	Liar string `json:"liar"`
}

// Proxy is a proxy whose connections come from an address of its own.
type Proxy struct {
	Kind     string     `json:"kind"` // socks5 or connect
	Listen   string     `json:"listen"`
	Source   netip.Addr `json:"source"`
	User     string     `json:"user"`
	Password string     `json:"password"`
}

// blocked is who is refused by which hosts, "*" for all.
type blocked struct {
	mu  sync.Mutex
	set map[string]bool
}

func (b *blocked) add(source, host string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.set == nil {
		b.set = map[string]bool{}
	}
	b.set[source+"|"+host] = true
}

func (b *blocked) has(source, host string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.set[source+"|*"] || b.set[source+"|"+host]
}

// Block puts an address on the list of the named hosts; of every host, and in
// the blocklist's zone, when none is named.
func (i *Internet) Block(source netip.Addr, hosts ...string) {
	if len(hosts) == 0 {
		hosts = []string{"*"}
	}
	for _, h := range hosts {
		i.blocked.add(source.String(), h)
	}
}

// outboundZone writes the reverse names and texts into DNS.
func (z *zone) outboundZone(s Outbound) {
	for text, name := range s.Names {
		ip := netip.MustParseAddr(text)
		reverse, _ := dns.ReverseAddr(text)
		z.add(&dns.PTR{Hdr: header(reverse, dns.TypePTR), Ptr: dns.Fqdn(name)})
		z.a(name, ip)
	}
	for name, text := range s.Texts {
		z.add(&dns.TXT{Hdr: header(name, dns.TypeTXT), Txt: inStrings(text)})
	}
	if s.Blocklist != "" {
		z.exists(s.Blocklist)
	}
}

// inStrings cuts a text into the strings of a TXT record, each of at most 255 bytes (RFC 1035,
// section 3.3.14).
func inStrings(text string) (cut []string) {
	for len(text) > 255 {
		cut, text = append(cut, text[:255]), text[255:]
	}
	return append(cut, text)
}

// listing answers for a name under the blocklist's zone: the addresses that are
// blocked everywhere, and the test entry of RFC 5782 section 5.
func (z *zone) listing(name string) []dns.RR {
	under, ok := strings.CutSuffix(name, "."+dns.Fqdn(z.blocklist))
	if !ok || z.blocklist == "" {
		return nil
	}
	for _, ip := range append(z.blocked.everywhere(), netip.MustParseAddr("127.0.0.2")) {
		if resolve.Reverse(ip) == under {
			return []dns.RR{&dns.A{Hdr: header(name, dns.TypeA), A: net.IPv4(127, 0, 0, 2)},
				&dns.TXT{Hdr: header(name, dns.TypeTXT), Txt: []string{"Unwanted mail was seen from " + ip.String()}}}
		}
	}
	return nil
}

func (b *blocked) everywhere() (out []netip.Addr) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for k := range b.set {
		if ip, ok := strings.CutSuffix(k, "|*"); ok {
			out = append(out, netip.MustParseAddr(ip))
		}
	}
	return out
}

// StartStandIns starts the world's proxies and its lying resolver.
func (i *Internet) StartStandIns() error {
	for _, p := range i.World.Outbound.Proxies {
		if _, _, err := i.StartProxy(p); err != nil {
			return err
		}
	}
	if i.World.Outbound.Liar != "" {
		_, err := i.StartLiar(i.World.Outbound.Liar)
		return err
	}
	return nil
}

// StartLiar starts a resolver that says of every name that does not exist that
// it is at an address of its own choice; it gives where it listens.
func (i *Internet) StartLiar(listen string) (string, error) {
	n, addr, err := serveDNS(dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		i.zone.ServeDNS(&liar{w}, q)
	}), listen)
	if err == nil {
		i.closers = append(i.closers, n.close)
	}
	return addr, err
}

type liar struct{ dns.ResponseWriter }

func (l *liar) WriteMsg(m *dns.Msg) error {
	if m.Rcode == dns.RcodeNameError && m.Question[0].Qtype == dns.TypeA {
		m.Rcode, m.Ns = dns.RcodeSuccess, nil
		m.Answer = []dns.RR{&dns.A{Hdr: header(m.Question[0].Name, dns.TypeA), A: net.IPv4(127, 32, 9, 9)}}
	}
	return l.ResponseWriter.WriteMsg(m)
}

// StartProxy starts a proxy and gives where it listens; stop makes it take no
// more connections.
func (i *Internet) StartProxy(p Proxy) (addr string, stop func(), err error) {
	l, err := net.Listen("tcp", p.Listen)
	if err != nil {
		return "", nil, fmt.Errorf("practice proxy: %w", err)
	}
	stop = func() { _ = l.Close() }
	i.closers = append(i.closers, stop)
	serve := p.socks
	if p.Kind == "connect" {
		serve = p.connect
	}
	go Answer(l, 2*time.Minute, serve)
	return l.Addr().String(), stop, nil
}

// Answer answers connections by do, each for at most so long, until l is closed.
func Answer(l net.Listener, most time.Duration, do func(net.Conn)) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			_ = conn.SetDeadline(time.Now().Add(most))
			do(conn)
		}()
	}
}

// dial goes to a mail host from the proxy's own address.
func (p Proxy) dial(to string) (net.Conn, error) {
	d := net.Dialer{Timeout: 5 * time.Second}
	if addr, err := netip.ParseAddrPort(to); err == nil && addr.Addr().Is4() {
		d.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(p.Source, 0))
	}
	return d.Dial("tcp", to)
}

func (p Proxy) connect(client net.Conn) {
	in := bufio.NewReader(client)
	q, err := http.ReadRequest(in)
	if err != nil {
		return
	}
	sign := "Basic " + base64.StdEncoding.EncodeToString([]byte(p.User+":"+p.Password))
	if p.User != "" && q.Header.Get("Proxy-Authorization") != sign {
		_, _ = io.WriteString(client, "HTTP/1.1 407 Proxy Authentication Required\r\nContent-Length: 0\r\n\r\n")
		return
	}
	host, err := p.dial(q.Host)
	if err != nil {
		_, _ = io.WriteString(client, "HTTP/1.1 502 Bad Gateway\r\nContent-Length: 0\r\n\r\n")
		return
	}
	_, _ = io.WriteString(client, "HTTP/1.1 200 Connection established\r\n\r\n")
	join(client, in, host)
}

// socks is RFC 1928 with CONNECT to IPv4 and IPv6 addresses, and RFC 1929.
func (p Proxy) socks(client net.Conn) {
	in := bufio.NewReader(client)
	read := func(n int) []byte {
		b := make([]byte, n)
		if _, err := io.ReadFull(in, b); err != nil {
			return nil
		}
		return b
	}
	hello := read(2)
	if hello == nil || hello[0] != 5 {
		return
	}
	methods, want := read(int(hello[1])), byte(0)
	if p.User != "" {
		want = 2
	}
	if !strings.Contains(string(methods), string(rune(want))) {
		_, _ = client.Write([]byte{5, 0xff})
		return
	}
	_, _ = client.Write([]byte{5, want})
	if want == 2 && !p.signIn(client, read) {
		return
	}
	head := read(4)
	if head == nil {
		return
	}
	size, known := map[byte]int{1: 4, 4: 16}[head[3]]
	if head[1] != 1 || !known {
		_, _ = client.Write([]byte{5, 8, 0, 1, 0, 0, 0, 0, 0, 0})
		return
	}
	raw := read(size + 2)
	if raw == nil {
		return
	}
	ip, _ := netip.AddrFromSlice(raw[:size])
	host, err := p.dial(netip.AddrPortFrom(ip, uint16(raw[size])<<8|uint16(raw[size+1])).String())
	if err != nil {
		_, _ = client.Write([]byte{5, 5, 0, 1, 0, 0, 0, 0, 0, 0})
		return
	}
	_, _ = client.Write([]byte{5, 0, 0, 1, 0, 0, 0, 0, 0, 0})
	join(client, in, host)
}

func (p Proxy) signIn(client net.Conn, read func(int) []byte) bool {
	text := func() string {
		n := read(1)
		if n == nil {
			return ""
		}
		return string(read(int(n[0])))
	}
	if read(1) == nil {
		return false
	}
	ok := text() == p.User
	ok = text() == p.Password && ok
	_, _ = client.Write([]byte{1, byte(map[bool]int{true: 0, false: 1}[ok])})
	return ok
}

func join(client net.Conn, ahead io.Reader, host net.Conn) {
	defer host.Close()
	done := make(chan struct{}, 2)
	pass := func(to io.Writer, from io.Reader) {
		_, _ = io.Copy(to, from)
		done <- struct{}{}
	}
	go pass(host, ahead)
	go pass(client, host)
	<-done
}

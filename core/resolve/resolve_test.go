package resolve

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"

	"varnet/core/finding"
)

// zoneText is a zone in master-file form. A name with "rcode" in the
// class of TXT answers with that code; "slow" never answers.
const zoneText = `
plain.example.        MX 10 mx1.plain.example.
plain.example.        MX 5 mx0.plain.example.
mx0.plain.example.    A 192.31.196.10
mx0.plain.example.    AAAA 2a02:db8::10
mx1.plain.example.    A 192.31.196.11
implicit.example.     A 192.31.196.12
nullmx.example.       MX 0 .
parked.example.       TXT "nothing here"
dangling.example.     MX 10 gone.example.
literal.example.      MX 10 192.31.196.1.
inside.example.       MX 10 inside-mx.example.
inside-mx.example.    A 10.0.0.1
inside-mx.example.    A 127.0.0.1
inside-mx.example.    A 169.254.169.254
inside-mx.example.    AAAA fd00::1
alias.example.        CNAME plain.example.
loop-a.example.       CNAME loop-b.example.
loop-b.example.       CNAME loop-a.example.
half.example.         MX 10 broken.example.
half.example.         MX 20 mx1.plain.example.
allbroken.example.    MX 10 broken.example.
second.example.       MX 10 mx1.plain.example.
once.example.         MX 10 mx1.plain.example.
`

// server is a small name server on loopback.
type server struct {
	records map[string][]dns.RR
	asked   atomic.Int64
	refuse  bool   // answers REFUSED to everything
	hides   string // says of this name, and those under it, that they do not exist
	delay   time.Duration
}

func startServer(t *testing.T, s *server) string {
	t.Helper()
	s.records = map[string][]dns.RR{}
	for line := range strings.SplitSeq(strings.TrimSpace(zoneText), "\n") {
		name, rest, _ := strings.Cut(line, " ")
		rr, err := dns.NewRR(name + " 300 IN " + strings.TrimSpace(rest))
		if err != nil {
			t.Fatal(err)
		}
		s.records[name] = append(s.records[name], rr)
	}
	for i := 599; i >= 0; i-- { // more than a packet takes, and than is kept; the most preferred comes last
		rr, _ := dns.NewRR(fmt.Sprintf("huge.example. 300 IN MX %d a-rather-long-name-of-a-host-%02d.plain.example.", i, i))
		s.records["huge.example."] = append(s.records["huge.example."], rr)
	}
	s.records["a-rather-long-name-of-a-host-00.plain.example."] = s.records["mx1.plain.example."]
	for _, rr := range s.records["a-rather-long-name-of-a-host-00.plain.example."] {
		c := dns.Copy(rr)
		c.Header().Name = "a-rather-long-name-of-a-host-00.plain.example."
		s.records[c.Header().Name] = []dns.RR{c}
	}
	packets, stream := listenBoth(t)
	for _, d := range []*dns.Server{{PacketConn: packets, Handler: s}, {Listener: stream, Handler: s}} {
		go func() { _ = d.ActivateAndServe() }()
		t.Cleanup(func() { _ = d.Shutdown() })
	}
	return packets.LocalAddr().String()
}

// listenBoth listens on one port by UDP and TCP; one that is free for the one may be taken for the other.
func listenBoth(t *testing.T) (net.PacketConn, net.Listener) {
	t.Helper()
	var err error
	for range 10 {
		var packets net.PacketConn
		if packets, err = net.ListenPacket("udp", "127.0.0.1:0"); err != nil {
			break
		}
		var stream net.Listener
		if stream, err = net.Listen("tcp", packets.LocalAddr().String()); err == nil {
			return packets, stream
		}
		_ = packets.Close()
	}
	t.Fatal(err)
	return nil, nil
}

func (s *server) ServeDNS(w dns.ResponseWriter, q *dns.Msg) {
	s.asked.Add(1)
	time.Sleep(s.delay)
	name, m := q.Question[0].Name, new(dns.Msg)
	m.SetReply(q)
	switch {
	case s.refuse:
		m.Rcode = dns.RcodeRefused
	case name == "broken.example.":
		m.Rcode = dns.RcodeServerFailure
	case strings.HasPrefix(name, "mute."):
		return
	case s.hides != "" && dns.IsSubDomain(s.hides, name):
		m.Rcode = dns.RcodeNameError
		_ = w.WriteMsg(m)
		return
	case s.records[name] == nil:
		m.Rcode = dns.RcodeNameError
	}
	for _, rr := range s.records[name] {
		if t := rr.Header().Rrtype; t == q.Question[0].Qtype || t == dns.TypeCNAME {
			m.Answer = append(m.Answer, rr)
		}
	}
	if w.LocalAddr().Network() == "udp" {
		m.Truncate(512)
	}
	_ = w.WriteMsg(m)
}

func newResolver(t *testing.T, private bool, servers ...*server) *Resolver {
	t.Helper()
	var addrs []string
	for _, s := range servers {
		addrs = append(addrs, startServer(t, s))
	}
	r, err := New(addrs, private)
	if err != nil {
		t.Fatal(err)
	}
	r.Timeout, r.Patience = 900*time.Millisecond, 3*time.Second
	return r
}

func TestLookup(t *testing.T) {
	r := newResolver(t, false, &server{})
	for _, c := range []struct {
		name     string
		outcome  Outcome
		hosts    string
		operator string
		cause    finding.Cause
	}{
		{"plain.example", ByMX, "mx0.plain.example mx1.plain.example", "plain.example", ""},
		{"implicit.example", Implicit, "implicit.example", "implicit.example", ""},
		{"nullmx.example", NullMX, "", "", finding.DomainNoMail},
		{"nothere.example", Absent, "", "", finding.DomainAbsent},
		{"parked.example", NoExchanger, "", "", finding.DomainNoExchanger},
		{"dangling.example", BadExchanger, "gone.example", "gone.example", finding.DomainBadExchanger},
		{"literal.example", BadExchanger, "192.31.196.1", "192.31.196.1", finding.DomainBadExchanger},
		{"inside.example", BadExchanger, "inside-mx.example", "inside-mx.example", finding.DomainBadExchanger},
		{"broken.example", Failed, "", "", finding.DomainUnresolved},
		{"mute.example", Failed, "", "", finding.DomainUnresolved},
		{"alias.example", ByMX, "mx0.plain.example mx1.plain.example", "plain.example", ""},
		{"loop-a.example", Failed, "", "", finding.DomainUnresolved},
		{"half.example", ByMX, "mx1.plain.example broken.example", "plain.example", ""},
		{"allbroken.example", Failed, "broken.example", "broken.example", finding.DomainUnresolved},
	} {
		d := r.Lookup(t.Context(), c.name)
		var hosts []string
		for _, x := range d.Exchangers {
			hosts = append(hosts, x.Host)
		}
		cause, _ := d.Outcome.Cause()
		if d.Outcome != c.outcome || strings.Join(hosts, " ") != c.hosts || d.Operator() != c.operator || cause != c.cause {
			t.Errorf("%s: %s, exchangers %v, operator %q, cause %q", c.name, d.Outcome, hosts, d.Operator(), cause)
		}
		if len(d.Answers) == 0 || d.Expires.IsZero() {
			t.Errorf("%s has no evidence: %+v", c.name, d)
		}
	}
	if d := r.Lookup(t.Context(), "plain.example"); len(d.Exchangers[0].Addrs) != 2 {
		t.Errorf("mx0 has the addresses %v", d.Exchangers[0].Addrs)
	}
	if d := r.Lookup(t.Context(), "inside.example"); len(d.Exchangers[0].Unusable) != 4 {
		t.Errorf("unusable: %v", d.Exchangers[0].Unusable)
	}
}

func TestPrivateAddressesWhereAllowed(t *testing.T) {
	r := newResolver(t, true, &server{})
	if d := r.Lookup(t.Context(), "inside.example"); d.Outcome != ByMX || len(d.Exchangers[0].Addrs) != 4 {
		t.Errorf("got %+v", d)
	}
}

func TestATruncatedAnswerIsAskedForAgainByTCP(t *testing.T) {
	r := newResolver(t, false, &server{})
	d := r.Lookup(t.Context(), "huge.example")
	if d.Outcome != ByMX || len(d.Exchangers) != maxExchangers || d.Exchangers[0].Host != "a-rather-long-name-of-a-host-00.plain.example" {
		t.Errorf("got %s with %d exchangers", d.Outcome, len(d.Exchangers))
	}
	if n := len(d.Answers[0].MX); n != mostRecords {
		t.Errorf("%d records are kept", n)
	}
}

func TestAnotherServerIsTriedBeforeConcluding(t *testing.T) {
	bad, good := &server{refuse: true}, &server{}
	r := newResolver(t, false, bad, good)
	for range 4 {
		r.cache.entries = map[key]*entry{}
		if d := r.Lookup(t.Context(), "second.example"); d.Outcome != ByMX {
			t.Errorf("got %s", d.Outcome)
		}
	}
	if bad.asked.Load() == 0 {
		t.Error("the servers are not asked in turn")
	}
}

func TestOneLookupInFlightAndThenFromTheCache(t *testing.T) {
	s := &server{delay: 50 * time.Millisecond}
	r := newResolver(t, false, s)
	var wg sync.WaitGroup
	for range 40 {
		wg.Go(func() {
			if d := r.Lookup(t.Context(), "once.example"); d.Outcome != ByMX {
				t.Errorf("got %s", d.Outcome)
			}
		})
	}
	wg.Wait()
	if n := s.asked.Load(); n != 3 { // MX, A, AAAA
		t.Errorf("the server was asked %d times", n)
	}
	r.now = func() time.Time { return time.Now().Add(2 * time.Hour) }
	r.Lookup(t.Context(), "once.example")
	if n := s.asked.Load(); n != 6 {
		t.Errorf("after the answers ran out the server was asked %d times in all", n)
	}
}

func TestACallerThatLeavesSpoilsNothing(t *testing.T) {
	s := &server{delay: 100 * time.Millisecond}
	r := newResolver(t, false, s)
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	go r.Lookup(ctx, "plain.example")
	time.Sleep(10 * time.Millisecond)
	if d := r.Lookup(t.Context(), "plain.example"); d.Outcome != ByMX {
		t.Errorf("the one that stayed got %s", d.Outcome)
	}
}

func TestAlive(t *testing.T) {
	if r := newResolver(t, false, &server{refuse: true}); !r.Alive(t.Context()) {
		t.Error("a server that answers is called dead")
	}
	r, err := New([]string{"127.0.0.1:1"}, false)
	if err != nil {
		t.Fatal(err)
	}
	if r.Timeout = 200 * time.Millisecond; r.Alive(t.Context()) {
		t.Error("a server that is not there is called alive")
	}
	for _, bad := range [][]string{nil, {"no-port"}} {
		if _, err := New(bad, false); err == nil {
			t.Errorf("%v was taken", bad)
		}
	}
}

// TestPublic: addresses that are not a host's of the public Internet, also those of IPv6 that
// have any IPv4 address in them, are told from the others.
func TestPublic(t *testing.T) {
	for text, want := range map[string]bool{
		"8.8.8.8": true, "193.0.14.129": true, "2a00:1450::1": true, "2606:4700::1": true, "2001:4860::1": true,
		"127.0.0.1": false, "10.1.2.3": false, "172.16.0.1": false, "192.168.1.1": false, "169.254.169.254": false, "100.64.0.1": false, "0.0.0.0": false, "192.88.99.1": false,
		"198.18.0.1": false, "192.0.2.1": false, "203.0.113.9": false, "224.0.0.1": false, "240.0.0.1": false, "255.255.255.255": false,
		"::1": false, "::": false, "fe80::1": false, "fc00::1": false, "fec0::1": false, "ff02::1": false, "2001:db8::1": false, "3fff::1": false, "5f00::1": false, "100::1": false,
		"::ffff:127.0.0.1": false, "::ffff:8.8.8.8": true, "::7f00:1": false, "64:ff9b::7f00:1": false, "64:ff9b::808:808": false, "2002:7f00:1::1": false, "2001:0:7f00:1::1": false,
		"2001:2::1": false, "2001:20::1": false,
	} {
		if got := Public(netip.MustParseAddr(text)); got != want {
			t.Errorf("%s: %v, want %v", text, got, want)
		}
	}
}

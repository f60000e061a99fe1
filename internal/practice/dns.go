package practice

import (
	"fmt"
	"net"
	"net/netip"
	"sync"

	"github.com/miekg/dns"
)

const practiceTTL = 300

// zone is the whole DNS of a world.
type zone struct {
	records map[string][]dns.RR // by lower-case name with the final dot
	failing map[string]bool     // names whose servers are broken
	// blocklist is the zone that lists who is blocked.
	blocklist string
	blocked   *blocked

	mu    sync.Mutex
	turns map[string]int // of flaky names: how often they were asked about
}

func newZone(w *World) *zone {
	z := &zone{records: map[string][]dns.RR{}, failing: map[string]bool{}, turns: map[string]int{}}
	z.outboundZone(w.Outbound)
	for i := range w.Operators {
		o := &w.Operators[i]
		if o.character.Zone != nil {
			o.character.Zone(z, o)
			continue
		}
		z.each(o, func(d string) { z.mx(d, 10, "mx1."+o.Name) })
		if o.character.IPv6 {
			z.aaaa("mx1."+o.Name, netip.IPv6Loopback())
		} else {
			z.a("mx1."+o.Name, o.host(1))
		}
		if o.character.Second != "" {
			preference := uint16(20)
			if o.character.Equal {
				preference = 10
			}
			z.each(o, func(d string) { z.mx(d, preference, "mx2."+o.Name) })
			z.a("mx2."+o.Name, o.host(2))
		}
	}
	return z
}

func (z *zone) each(o *Operator, do func(domain string)) {
	for _, d := range o.Domains {
		do(d)
	}
}

func header(name string, rtype uint16) dns.RR_Header {
	return dns.RR_Header{Name: dns.CanonicalName(name), Rrtype: rtype, Class: dns.ClassINET, Ttl: practiceTTL}
}

func (z *zone) add(rr dns.RR) {
	name := rr.Header().Name
	z.records[name] = append(z.records[name], rr)
}

func (z *zone) mx(domain string, preference uint16, host string) {
	z.add(&dns.MX{Hdr: header(domain, dns.TypeMX), Preference: preference, Mx: dns.Fqdn(host)})
}

func (z *zone) a(name string, ip netip.Addr) {
	z.add(&dns.A{Hdr: header(name, dns.TypeA), A: net.IP(ip.AsSlice())})
}

func (z *zone) aaaa(name string, ip netip.Addr) {
	z.add(&dns.AAAA{Hdr: header(name, dns.TypeAAAA), AAAA: net.IP(ip.AsSlice())})
}

func (z *zone) cname(name, target string) {
	z.add(&dns.CNAME{Hdr: header(name, dns.TypeCNAME), Target: dns.Fqdn(target)})
}

// flaky makes the name's servers fail at every second question.
func (z *zone) flaky(name string) { z.turns[dns.CanonicalName(name)] = 0 }

// failsNow takes a flaky name's turn.
func (z *zone) failsNow(name string) bool {
	z.mu.Lock()
	defer z.mu.Unlock()
	if _, ok := z.turns[name]; !ok {
		return false
	}
	z.turns[name]++
	return z.turns[name]%2 == 1
}

// exists makes the name exist without a record anybody asks for here.
func (z *zone) exists(name string) {
	z.add(&dns.TXT{Hdr: header(name, dns.TypeTXT), Txt: []string{"parked"}})
}

func (z *zone) broken(name string) { z.failing[dns.CanonicalName(name)] = true }

// ServeDNS answers as a recursive resolver would.
func (z *zone) ServeDNS(w dns.ResponseWriter, q *dns.Msg) {
	m := new(dns.Msg)
	m.SetReply(q)
	m.RecursionAvailable = true
	name, qtype := dns.CanonicalName(q.Question[0].Name), q.Question[0].Qtype
	records, ok := z.records[name]
	if listed := z.listing(name); listed != nil {
		records, ok = listed, true
	}
	switch {
	case z.failing[name] || z.failsNow(name):
		m.Rcode = dns.RcodeServerFailure
	case !ok:
		m.Rcode = dns.RcodeNameError
	}
	if m.Rcode == dns.RcodeServerFailure {
		records = nil
	}
	for _, rr := range records {
		if rr.Header().Rrtype == qtype || rr.Header().Rrtype == dns.TypeCNAME {
			m.Answer = append(m.Answer, rr)
		}
	}
	if len(m.Answer) == 0 && m.Rcode != dns.RcodeServerFailure {
		m.Ns = []dns.RR{&dns.SOA{Hdr: header("example.", dns.TypeSOA), Ns: "ns.example.", Mbox: "host.example.", Minttl: 60}}
	}
	_ = w.WriteMsg(m)
}

// nameServer is the zone served over UDP and TCP on one port.
type nameServer struct{ udp, tcp *dns.Server }

func serveDNS(z dns.Handler, addr string) (*nameServer, string, error) {
	packets, stream, err := listenBoth(addr)
	if err != nil {
		return nil, "", fmt.Errorf("the practice name server: %w", err)
	}
	n := &nameServer{&dns.Server{PacketConn: packets, Handler: z}, &dns.Server{Listener: stream, Handler: z}}
	go func() { _ = n.udp.ActivateAndServe() }()
	go func() { _ = n.tcp.ActivateAndServe() }()
	return n, packets.LocalAddr().String(), nil
}

// listenBoth listens on one port by UDP and TCP. A port that was free for one
// may be taken for the other: port 0 is tried some more times then.
func listenBoth(addr string) (packets net.PacketConn, stream net.Listener, err error) {
	for range 10 {
		if packets, err = net.ListenPacket("udp", addr); err != nil {
			return nil, nil, err
		}
		if stream, err = net.Listen("tcp", packets.LocalAddr().String()); err == nil {
			return packets, stream, nil
		}
		_ = packets.Close()
		if _, port, _ := net.SplitHostPort(addr); port != "0" {
			break
		}
	}
	return nil, nil, err
}

func (n *nameServer) close() {
	_ = n.udp.Shutdown()
	_ = n.tcp.Shutdown()
}

package resolve

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Status is how one lookup came out.
type Status string

// The ways a lookup can come out.
const (
	StatusFound  Status = "found"  // records of the type asked for
	StatusEmpty  Status = "empty"  // the name exists, without such records (NODATA)
	StatusAbsent Status = "absent" // NXDOMAIN
	StatusFailed Status = "failed" // no resolver gave a usable answer
)

// MX is one MX record; Host is "" for the root, which stands for a null MX.
type MX struct {
	Host       string
	Preference uint16
}

// Answer is the outcome of one lookup.
type Answer struct {
	Name   string
	Type   string
	Status Status
	MX     []MX
	Addrs  []netip.Addr
	// Texts are the texts of TXT records and the names of PTR records.
	Texts   []string
	Server  string
	Problem string
	TookMS  float64
	At      time.Time
	Expires time.Time
}

// Resolver asks recursive resolvers. Make one with New and share it.
type Resolver struct {
	// AllowPrivate lets exchangers with loopback and private addresses
	// through. The practice internet needs it; nothing else does.
	AllowPrivate bool
	// Timeout bounds one try at one server. Default 3 s.
	Timeout time.Duration
	// Patience bounds the whole lookup of a domain. Default 12 s.
	Patience time.Duration

	now   func() time.Time
	pool  pool
	cache cache
}

// New makes a resolver that asks the given servers (host:port).
func New(servers []string, allowPrivate bool) (*Resolver, error) {
	if len(servers) == 0 {
		return nil, errors.New("no DNS resolver is named; give at least one as host:port")
	}
	for _, s := range servers {
		if _, _, err := net.SplitHostPort(s); err != nil {
			return nil, fmt.Errorf("the DNS resolver %q is not of the form host:port: %w", s, err)
		}
	}
	r := &Resolver{
		AllowPrivate: allowPrivate, Timeout: 3 * time.Second, Patience: 12 * time.Second,
		now: time.Now, cache: cache{entries: map[key]*entry{}},
	}
	r.Use(servers)
	return r, nil
}

// System returns the resolvers that this machine is set up with.
func System() ([]string, error) {
	c, err := dns.ClientConfigFromFile("/etc/resolv.conf")
	if err != nil {
		return nil, fmt.Errorf("read the system's resolvers: %w", err)
	}
	var out []string
	for _, s := range c.Servers {
		out = append(out, net.JoinHostPort(s, c.Port))
	}
	return out, nil
}

// Bounds of the time an answer is kept, whatever its TTL says (RFC 2308 for
// the negative ones). A failure is kept just long enough to spare a list's
// many addresses of one broken domain.
const (
	minTTL       = 30 * time.Second
	maxTTL       = time.Hour
	maxNegative  = 15 * time.Minute
	failureTTL   = 10 * time.Second
	maxAliases   = 8
	tries        = 3
	edns0Payload = 1232
)

// query asks for one type of record, following CNAME records, with one lookup
// in flight per name.
func (r *Resolver) query(ctx context.Context, name string, qtype uint16) Answer {
	return r.cache.get(ctx, key{name, qtype}, r.now, func() Answer {
		start := r.now()
		a := r.follow(ctx, name, qtype)
		a.Name, a.Type, a.At = name, dns.TypeToString[qtype], start
		a.TookMS = float64(r.now().Sub(start).Microseconds()) / 1000
		return a
	})
}

func (r *Resolver) follow(ctx context.Context, name string, qtype uint16) Answer {
	return r.followAt(ctx, name, qtype, nil)
}

// followAt asks some resolvers, all in turn where none is named.
func (r *Resolver) followAt(ctx context.Context, name string, qtype uint16, servers []string) Answer {
	for range maxAliases {
		m, server, err := r.ask(ctx, name, qtype, servers)
		if err != nil {
			return Answer{Status: StatusFailed, Problem: err.Error(), Server: server, Expires: r.now().Add(failureTTL)}
		}
		a, alias := read(m, name, qtype)
		a.Server, a.Expires = server, r.now().Add(lifetime(m, a.Status))
		if alias == "" {
			return a
		}
		name = alias
	}
	return Answer{Status: StatusFailed, Problem: "the CNAME records go round in a circle", Expires: r.now().Add(failureTTL)}
}

// ask puts the question to one server after the other until one answers.
// SERVFAIL, REFUSED and silence are not answers.
func (r *Resolver) ask(ctx context.Context, name string, qtype uint16, servers []string) (*dns.Msg, string, error) {
	m := new(dns.Msg)
	m.SetQuestion(dns.Fqdn(name), qtype)
	m.SetEdns0(edns0Payload, false)
	if servers == nil {
		servers = r.pool.order(r.now())
	}
	var server string
	var last error
	for i := range tries {
		server = servers[i%len(servers)]
		start := r.now()
		reply, err := r.exchange(ctx, m, server)
		if err == nil || !over(ctx) { // what our own end cut short says nothing of the server
			r.pool.learn(server, err == nil, start, r.now())
		}
		switch {
		case err != nil:
			last = fmt.Errorf("no answer from %s", server)
		case reply.Rcode == dns.RcodeFormatError && m.IsEdns0() != nil:
			m.Extra = nil // an old server that does not know EDNS
			last = errors.New("FORMERR")
		case reply.Rcode == dns.RcodeSuccess || reply.Rcode == dns.RcodeNameError:
			return reply, server, nil
		default:
			last = errors.New(dns.RcodeToString[reply.Rcode])
		}
		if over(ctx) {
			break
		}
	}
	return nil, server, last
}

// exchange asks one server, over TCP again when the answer was cut short.
func (r *Resolver) exchange(ctx context.Context, m *dns.Msg, server string) (*dns.Msg, error) {
	udp := dns.Client{Timeout: r.Timeout}
	reply, _, err := udp.ExchangeContext(ctx, m, server)
	if err == nil && reply.Truncated {
		tcp := dns.Client{Net: "tcp", Timeout: r.Timeout}
		reply, _, err = tcp.ExchangeContext(ctx, m, server)
	}
	return reply, err
}

// read takes the records of the type asked for out of a message; alias is the
// name to ask on with when the message ends in a CNAME.
func read(m *dns.Msg, name string, qtype uint16) (a Answer, alias string) {
	end, aliases := dns.CanonicalName(name), map[string]string{}
	for _, rr := range m.Answer {
		if c, ok := rr.(*dns.CNAME); ok {
			aliases[dns.CanonicalName(c.Hdr.Name)] = dns.CanonicalName(c.Target)
		}
	}
	for range maxAliases {
		next, ok := aliases[end]
		if !ok {
			break
		}
		end = next
	}
	for _, rr := range m.Answer {
		if dns.CanonicalName(rr.Header().Name) == end && rr.Header().Rrtype == qtype {
			a.add(rr)
		}
	}
	a.bound()
	switch {
	case len(a.MX)+len(a.Addrs)+len(a.Texts) > 0:
		a.Status = StatusFound
	case m.Rcode == dns.RcodeNameError:
		a.Status = StatusAbsent
	case end != dns.CanonicalName(name):
		a.Status, alias = StatusEmpty, strings.TrimSuffix(end, ".")
	default:
		a.Status = StatusEmpty
	}
	return a, alias
}

// mostRecords are kept of an answer about mail hosts, which may have thousands by TCP: no mail needs so many, and each is written down
// with its domain.
const mostRecords = 64

// bound leaves out records beyond mostRecords: of exchangers those that come last by preference (RFC 5321 section 5.1).
func (a *Answer) bound() {
	if len(a.MX) > mostRecords {
		slices.SortStableFunc(a.MX, func(x, y MX) int { return int(x.Preference) - int(y.Preference) })
		a.MX = slices.Clone(a.MX[:mostRecords])
	}
	if len(a.Addrs) > mostRecords {
		a.Addrs = slices.Clone(a.Addrs[:mostRecords])
	}
}

func (a *Answer) add(rr dns.RR) {
	switch rr := rr.(type) {
	case *dns.MX:
		host := strings.TrimSuffix(strings.ToLower(rr.Mx), ".")
		a.MX = append(a.MX, MX{Host: host, Preference: rr.Preference})
	case *dns.TXT:
		a.Texts = append(a.Texts, strings.Join(rr.Txt, "")) // RFC 7208 section 3.3
	case *dns.PTR:
		a.Texts = append(a.Texts, strings.TrimSuffix(strings.ToLower(rr.Ptr), "."))
	case *dns.A:
		if ip, ok := netip.AddrFromSlice(rr.A.To4()); ok {
			a.Addrs = append(a.Addrs, ip)
		}
	case *dns.AAAA:
		if ip, ok := netip.AddrFromSlice(rr.AAAA); ok {
			a.Addrs = append(a.Addrs, ip.Unmap())
		}
	}
}

// lifetime is how long an answer may be kept: the smallest TTL of its records,
// for negative answers the SOA's minimum (RFC 2308 section 5), within bounds.
func lifetime(m *dns.Msg, s Status) time.Duration {
	ttl, upper := maxTTL, maxTTL
	if s != StatusFound {
		upper = maxNegative
	}
	for _, rr := range m.Answer {
		ttl = min(ttl, time.Duration(rr.Header().Ttl)*time.Second)
	}
	for _, rr := range m.Ns {
		if soa, ok := rr.(*dns.SOA); ok && s != StatusFound {
			ttl = min(ttl, time.Duration(min(soa.Minttl, soa.Hdr.Ttl))*time.Second)
		}
	}
	return max(minTTL, min(ttl, upper))
}

// Alive reports whether any resolver answers at all, whatever it says.
func (r *Resolver) Alive(ctx context.Context) bool {
	m := new(dns.Msg)
	m.SetQuestion(".", dns.TypeNS)
	for _, s := range r.Servers() {
		if _, err := r.exchange(ctx, m, s); err == nil {
			return true
		}
	}
	return false
}

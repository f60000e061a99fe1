// Package resolve finds the mail exchangers of a domain and tells every way in
// which that can come out: exchangers by MX, the domain itself as implicit
// exchanger (RFC 5321 section 5.1), a null MX (RFC 7505), a domain that does
// not exist, one without any mail host, one whose hosts are unusable, and a
// DNS that failed. A failure is never taken for an absence.
package resolve

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/net/publicsuffix"

	"varnet/core/address"
	"varnet/core/finding"
)

// Outcome is how the lookup of a domain came out.
type Outcome string

// The outcomes.
const (
	ByMX         Outcome = "mx"            // exchangers named by MX records
	Implicit     Outcome = "implicit"      // no MX; the domain itself has an address
	NullMX       Outcome = "null-mx"       // the domain takes no mail (RFC 7505)
	Absent       Outcome = "absent"        // NXDOMAIN
	NoExchanger  Outcome = "no-exchanger"  // neither MX nor address
	BadExchanger Outcome = "bad-exchanger" // exchangers, but none with a usable address
	Failed       Outcome = "failed"        // SERVFAIL, REFUSED or silence of every resolver
)

// Cause returns the cause that ends the verification of the domain's addresses;
// ok is false where there are exchangers to ask.
func (o Outcome) Cause() (c finding.Cause, ok bool) {
	c, ok = map[Outcome]finding.Cause{
		NullMX:       finding.DomainNoMail,
		Absent:       finding.DomainAbsent,
		NoExchanger:  finding.DomainNoExchanger,
		BadExchanger: finding.DomainBadExchanger,
		Failed:       finding.DomainUnresolved,
	}[o]
	return c, ok
}

// Exchanger is one mail host of a domain.
type Exchanger struct {
	Host       string
	Preference uint16
	Addrs      []netip.Addr
	// Unusable are addresses that may not be contacted: loopback, private,
	// link-local and the like.
	Unusable []netip.Addr
}

// Domain is what DNS says of a domain.
type Domain struct {
	Name    string
	Outcome Outcome
	// Exchangers are in the order in which they are to be tried: by
	// preference, equal ones shuffled; those without a usable address last.
	Exchangers []Exchanger
	// Answers are the lookups made, for the evidence.
	Answers []Answer
	At      time.Time
	// Expires is when the shortest-lived of the answers runs out.
	Expires time.Time
}

// Operator is who runs the exchangers: the registrable domain of the first
// exchanger's name, or the name where it has none.
func (d Domain) Operator() string {
	if len(d.Exchangers) == 0 {
		return ""
	}
	return Registrable(d.Exchangers[0].Host)
}

// Registrable is the registrable domain of a name, or the name where it has none.
func Registrable(name string) string {
	if domain, err := publicsuffix.EffectiveTLDPlusOne(name); err == nil {
		return domain
	}
	return name
}

// Hosts returns the names of the exchangers.
func (d Domain) Hosts() []string {
	out := make([]string, len(d.Exchangers))
	for i, x := range d.Exchangers {
		out[i] = x.Host
	}
	return out
}

// Lookup finds the exchangers of a domain given as A-labels. It always comes
// back with an outcome; when ctx ends first that is Failed.
func (r *Resolver) Lookup(ctx context.Context, name string) Domain {
	ctx, cancel := context.WithTimeout(ctx, r.Patience)
	defer cancel()
	d := Domain{Name: name, At: r.now()}
	if ip, ok := address.Literal(name); ok {
		r.literal(&d, ip)
		return d
	}
	mx := r.query(ctx, name, dns.TypeMX)
	d.note(mx)
	switch r.sure(ctx, &d, mx, dns.TypeMX).Status {
	case StatusAbsent:
		d.Outcome = Absent
	case StatusFailed:
		d.Outcome = Failed
	case StatusEmpty:
		r.implicit(ctx, &d)
	default:
		r.byMX(ctx, &d, mx)
	}
	return d
}

// literal settles a domain that is a host's number: there is nothing to look up.
func (r *Resolver) literal(d *Domain, ip netip.Addr) {
	x := Exchanger{Host: d.Name}
	d.Outcome, d.Expires = Implicit, d.At.Add(maxTTL)
	if r.sort(&x, ip); len(x.Addrs) == 0 {
		d.Outcome = BadExchanger
	}
	d.Exchangers = []Exchanger{x}
}

// sort puts an address of an exchanger where it belongs.
func (r *Resolver) sort(x *Exchanger, ip netip.Addr) {
	if r.AllowPrivate || Public(ip) {
		x.Addrs = append(x.Addrs, ip)
	} else {
		x.Unusable = append(x.Unusable, ip)
	}
}

func (d *Domain) note(a Answer) {
	d.Answers = append(d.Answers, a)
	if d.Expires.IsZero() || a.Expires.Before(d.Expires) {
		d.Expires = a.Expires
	}
}

// implicit looks for addresses of the domain itself (RFC 5321 section 5.1).
func (r *Resolver) implicit(ctx context.Context, d *Domain) {
	x, failed := r.addresses(ctx, d, d.Name, 0)
	switch {
	case len(x.Addrs) > 0:
		d.Outcome, d.Exchangers = Implicit, []Exchanger{x}
	case failed:
		d.Outcome = Failed
	case len(x.Unusable) > 0:
		d.Outcome, d.Exchangers = BadExchanger, []Exchanger{x}
	default:
		d.Outcome = NoExchanger
	}
}

func (r *Resolver) byMX(ctx context.Context, d *Domain, mx Answer) {
	if len(mx.MX) == 1 && mx.MX[0].Host == "" {
		d.Outcome = NullMX
		return
	}
	hosts := slices.DeleteFunc(slices.Clone(mx.MX), func(m MX) bool { return m.Host == "" })
	rand.Shuffle(len(hosts), func(i, j int) { hosts[i], hosts[j] = hosts[j], hosts[i] })
	slices.SortStableFunc(hosts, func(a, b MX) int { return int(a.Preference) - int(b.Preference) })
	if len(hosts) > maxExchangers {
		hosts = hosts[:maxExchangers]
	}
	usable, anyFailed := false, false
	for _, h := range hosts {
		x, failed := r.addresses(ctx, d, h.Host, h.Preference)
		d.Exchangers = append(d.Exchangers, x)
		usable = usable || len(x.Addrs) > 0
		anyFailed = anyFailed || failed
	}
	slices.SortStableFunc(d.Exchangers, func(a, b Exchanger) int {
		return boolInt(len(a.Addrs) == 0) - boolInt(len(b.Addrs) == 0)
	})
	switch {
	case usable:
		d.Outcome = ByMX
	case anyFailed:
		d.Outcome = Failed
	default:
		d.Outcome = BadExchanger
	}
}

// addresses looks up both address families of a host side by side.
func (r *Resolver) addresses(ctx context.Context, d *Domain, host string, pref uint16) (x Exchanger, failed bool) {
	x = Exchanger{Host: host, Preference: pref}
	if ip, err := netip.ParseAddr(host); err == nil {
		// An address in an MX record is against RFC 5321, and not asked.
		x.Unusable = append(x.Unusable, ip)
		return x, false
	}
	absent := false
	v6 := make(chan Answer, 1)
	go func() { v6 <- r.query(ctx, host, dns.TypeAAAA) }()
	for _, a := range []Answer{r.query(ctx, host, dns.TypeA), <-v6} {
		d.note(a)
		failed = failed || a.Status == StatusFailed
		absent = absent || a.Status == StatusAbsent
		for _, ip := range a.Addrs {
			r.sort(&x, ip)
		}
	}
	if absent && !failed && len(x.Addrs)+len(x.Unusable) == 0 {
		a := d.Answers[len(d.Answers)-2] // of the A records
		failed = a.Status == StatusAbsent && r.sure(ctx, d, a, dns.TypeA).Status == StatusFailed
	}
	return x, failed && len(x.Addrs) == 0
}

// maxExchangers bounds how many exchangers of a domain are looked at.
const maxExchangers = 10

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// reserved are the address blocks of the IANA special-purpose registries (RFC 6890) that
// netip's own predicates leave out and no mail host is to be reached at: this network,
// shared space, protocol assignments, documentation, benchmarks, 6to4 relays, what is
// reserved; and of IPv6 the forms that have an IPv4 address in them, which may be any
// (compatible, NAT64, 6to4, Teredo), discard, ORCHID, benchmarks, documentation, segment
// routing and site-local.
var reserved = func() (p []netip.Prefix) {
	for _, s := range strings.Fields(`0.0.0.0/8 100.64.0.0/10 192.0.0.0/24 192.0.2.0/24 192.88.99.0/24 198.18.0.0/15
		198.51.100.0/24 203.0.113.0/24 240.0.0.0/4
		::/96 64:ff9b::/96 64:ff9b:1::/48 100::/64 2001::/23 2001:db8::/32 2002::/16 3fff::/20 5f00::/16 fec0::/10`) {
		p = append(p, netip.MustParsePrefix(s))
	}
	return p
}()

// Public reports whether a host of the public Internet may have this address.
func Public(ip netip.Addr) bool {
	ip = ip.Unmap()
	if !ip.IsGlobalUnicast() || ip.IsPrivate() {
		return false
	}
	return !slices.ContainsFunc(reserved, func(p netip.Prefix) bool { return p.Contains(ip) })
}

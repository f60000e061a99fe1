package resolve

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"

	"github.com/miekg/dns"
)

// Records looks a name up for one type of record (dns.TypeTXT and the like).
func (r *Resolver) Records(ctx context.Context, name string, qtype uint16) Answer {
	ctx, cancel := context.WithTimeout(ctx, r.Patience)
	defer cancel()
	return r.query(ctx, name, qtype)
}

// Reverse is the name under which DNS keeps facts about an address:
// the PTR name (RFC 1035 section 3.5, RFC 3596 section 2.5) less its ending.
func Reverse(ip netip.Addr) string {
	full, err := dns.ReverseAddr(ip.Unmap().String())
	if err != nil {
		return ""
	}
	return strings.TrimSuffix(strings.TrimSuffix(full, ".in-addr.arpa."), ".ip6.arpa.")
}

// Names returns the names that an address's PTR records hold.
func (r *Resolver) Names(ctx context.Context, ip netip.Addr) Answer {
	ending := ".ip6.arpa"
	if ip.Unmap().Is4() {
		ending = ".in-addr.arpa"
	}
	return r.Records(ctx, Reverse(ip)+ending, dns.TypePTR)
}

// Addresses returns the addresses of a host, of both families.
func (r *Resolver) Addresses(ctx context.Context, host string) (addrs []netip.Addr, failed bool) {
	for _, qtype := range []uint16{dns.TypeA, dns.TypeAAAA} {
		a := r.Records(ctx, host, qtype)
		addrs = append(addrs, a.Addrs...)
		failed = failed || a.Status == StatusFailed
	}
	return addrs, failed && len(addrs) == 0
}

// ForSPF is the resolver as the SPF library wants it.
type ForSPF struct{ *Resolver }

func asError(a Answer) error {
	switch a.Status {
	case StatusAbsent:
		return &net.DNSError{Err: "no such host", Name: a.Name, IsNotFound: true}
	case StatusFailed:
		return &net.DNSError{Err: a.Problem, Name: a.Name, IsTemporary: true}
	}
	return nil
}

// LookupTXT returns the texts of a name.
func (f ForSPF) LookupTXT(ctx context.Context, name string) ([]string, error) {
	a := f.Records(ctx, strings.TrimSuffix(name, "."), dns.TypeTXT)
	return a.Texts, asError(a)
}

// LookupMX returns the exchangers of a domain.
func (f ForSPF) LookupMX(ctx context.Context, name string) (out []*net.MX, err error) {
	a := f.Records(ctx, strings.TrimSuffix(name, "."), dns.TypeMX)
	for _, m := range a.MX {
		out = append(out, &net.MX{Host: m.Host, Pref: m.Preference})
	}
	return out, asError(a)
}

// LookupIPAddr returns the addresses of a host.
func (f ForSPF) LookupIPAddr(ctx context.Context, host string) (out []net.IPAddr, err error) {
	addrs, failed := f.Addresses(ctx, strings.TrimSuffix(host, "."))
	for _, ip := range addrs {
		out = append(out, net.IPAddr{IP: ip.AsSlice()})
	}
	if failed {
		err = &net.DNSError{Err: "no answer", Name: host, IsTemporary: true}
	}
	return out, err
}

// LookupAddr returns the names of an address.
func (f ForSPF) LookupAddr(ctx context.Context, addr string) ([]string, error) {
	ip, err := netip.ParseAddr(addr)
	if err != nil {
		return nil, fmt.Errorf("%q is not an IP address", addr)
	}
	a := f.Names(ctx, ip)
	return a.Texts, asError(a)
}

package outbound

import (
	"context"
	"net/netip"

	"github.com/miekg/dns"

	"varnet/core/resolve"
)

// TestBlocklist holds a zone against its own test entries: 127.0.0.2 must be in
// it and 127.0.0.1 must not (RFC 5782 section 5). A zone that fails is not
// believed about anybody.
func (t *Tester) TestBlocklist(ctx context.Context, zone string) (o Outcome) {
	in, out := t.listed(ctx, zone, netip.MustParseAddr("127.0.0.2")), t.listed(ctx, zone, netip.MustParseAddr("127.0.0.1"))
	switch {
	case in.Status == resolve.StatusFailed || out.Status == resolve.StatusFailed:
		o.Add(Reservation, "Some zones answer no resolver of a large provider; ask by a resolver of your own, or remove it.", "%s gave no answer.", zone)
	case in.Status != resolve.StatusFound:
		o.Add(Reservation, "Remove it; it is not a blocklist, or no longer one.", "%s does not hold its own test entry.", zone)
	case out.Status == resolve.StatusFound:
		o.Add(Reservation, "Remove it; it lists the whole world.", "%s holds what no blocklist may hold.", zone)
	default:
		o.TookMS = in.TookMS
		o.Add(Good, "", "It answers as a blocklist should, in %.1f ms.", in.TookMS)
	}
	return o
}

func (t *Tester) listed(ctx context.Context, zone string, ip netip.Addr) resolve.Answer {
	return t.Resolver.Records(ctx, resolve.Reverse(ip)+"."+zone, dns.TypeA)
}

// TestListed looks a route's public address up in the zones.
func (t *Tester) TestListed(ctx context.Context, o *Outcome, zones []string) {
	ip, err := netip.ParseAddr(o.Public)
	if err != nil {
		return
	}
	for _, zone := range zones {
		switch t.listed(ctx, zone, ip).Status {
		case resolve.StatusFound:
			why := t.Resolver.Records(ctx, resolve.Reverse(ip)+"."+zone, dns.TypeTXT).Texts
			says := ""
			if len(why) > 0 {
				says = ": “" + why[0] + "”"
			}
			o.Add(Reservation, "Use another route until it is off; "+zone+" says on its own pages how to get off it.", "%s is on the blocklist %s%s. Hosts that use it refuse us.", ip, zone, says)
		case resolve.StatusFailed:
			o.Add(Good, "", "Whether %s is on the blocklist %s could not be looked up now.", ip, zone)
		default:
			o.Add(Good, "", "%s is not on the blocklist %s.", ip, zone)
		}
	}
}

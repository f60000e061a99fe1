package outbound

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"blitiri.com.ar/go/spf"

	"varnet/core/resolve"
	"varnet/core/smtp"
)

// TestIdentity holds an identity against DNS and the addresses it
// is seen with.
func (t *Tester) TestIdentity(ctx context.Context, id smtp.Identity, seen []Seen) (o Outcome) {
	t.testName(ctx, &o, id.Name, seen)
	for _, s := range seen {
		t.reverse(ctx, &o, id.Name, s, len(seen) > 1)
	}
	t.testSender(ctx, &o, id)
	for _, s := range seen {
		as := id
		if s.Helo != "" {
			as.Name = s.Helo
		}
		t.testSPF(ctx, &o, as, s.Public)
	}
	if len(seen) == 0 {
		o.Add(Reservation, "Set it on the route, as in direct?public=ADDRESS.",
			"No mail host said which address of ours it sees, so reverse name and SPF were not looked at.")
	}
	return o
}

// testName looks whether the name that is said resolves.
func (t *Tester) testName(ctx context.Context, o *Outcome, name string, seen []Seen) {
	addrs, failed := t.Resolver.Addresses(ctx, name)
	switch {
	case failed:
		o.Add(Reservation, "Test the resolvers, then this again.", "The name %s could not be looked up now.", name)
	case len(addrs) == 0:
		o.Add(Reservation, t.suggest(ctx, seen, "Give "+name+" an address record, or use a name that has one."),
			"The name %s does not resolve; hosts that look it up refuse us.", name)
	default:
		o.Add(Good, "", "The name %s resolves to %s.", name, joined(addrs))
	}
}

// suggest says what to do, with the confirmed reverse name where there is one.
func (t *Tester) suggest(ctx context.Context, seen []Seen, otherwise string) string {
	for _, s := range seen {
		if name := t.confirmed(ctx, s.Public); name != "" {
			return fmt.Sprintf("Use %s instead, the reverse name of %s.", name, s.Public)
		}
	}
	return otherwise
}

// confirmed returns the reverse name of an address that leads back to it.
func (t *Tester) confirmed(ctx context.Context, ip netip.Addr) string {
	for _, name := range t.Resolver.Names(ctx, ip).Texts {
		if back, _ := t.Resolver.Addresses(ctx, name); slices.Contains(back, ip) {
			return name
		}
	}
	return ""
}

// reverse looks whether the reverse name of an address agrees with the name
// that is said there. Where there are several, each wants a name of its own.
func (t *Tester) reverse(ctx context.Context, o *Outcome, name string, s Seen, several bool) {
	ip := s.Public
	if s.Helo != "" {
		name = s.Helo
	}
	names := t.Resolver.Names(ctx, ip)
	confirmed := t.confirmed(ctx, ip)
	switch {
	case names.Status == resolve.StatusFailed:
		o.Add(Reservation, "Test the resolvers, then this again.", "The reverse name of %s could not be looked up now.", ip)
	case len(names.Texts) == 0:
		o.Add(Reservation, fmt.Sprintf("Have whoever gives out the address set its reverse name to %s.", name),
			"%s has no reverse name; many hosts refuse such clients.", ip)
	case confirmed == "":
		o.Add(Reservation, fmt.Sprintf("Give %s an address record with %s.", names.Texts[0], ip),
			"The reverse name of %s is %s, and that name does not lead back to it.", ip, names.Texts[0])
	case !slices.Contains(names.Texts, name):
		do := fmt.Sprintf("Use %s instead.", confirmed)
		if several {
			do = fmt.Sprintf("Use %s on that route: add the route again with ?helo=%s.", confirmed, confirmed)
		}
		o.Add(Reservation, do, "The reverse name of %s is %s and not %s.", ip, confirmed, name)
	default:
		o.Add(Good, "", "The reverse name of %s is %s, and leads back to it.", ip, name)
	}
}

// testSender looks whether what bounces to the sender can arrive.
func (t *Tester) testSender(ctx context.Context, o *Outcome, id smtp.Identity) {
	_, domain, ok := strings.Cut(id.Sender, "@")
	if !ok {
		o.Add(Good, "", "It asks with the empty sender; some hosts refuse that where no message follows.")
		return
	}
	switch d := t.Resolver.Lookup(ctx, domain); d.Outcome {
	case resolve.ByMX, resolve.Implicit:
		o.Add(Good, "", "The sender's domain %s takes mail, at %s.", domain, d.Exchangers[0].Host)
	case resolve.Failed:
		o.Add(Reservation, "Test the resolvers, then this again.", "The sender's domain %s could not be looked up now.", domain)
	default:
		o.Add(Reservation, "Ask with a sender whose domain takes mail.", "The sender's domain %s takes no mail; hosts that look it up refuse us.", domain)
	}
}

// testSPF evaluates the sender's SPF record (RFC 7208) for an address of ours;
// with the empty sender it is that of the EHLO name (section 2.4).
func (t *Tester) testSPF(ctx context.Context, o *Outcome, id smtp.Identity, ip netip.Addr) {
	_, domain, ok := strings.Cut(id.Sender, "@")
	if !ok {
		domain = id.Name
	}
	result, err := spf.CheckHostWithSender(ip.AsSlice(), id.Name, id.Sender, spf.WithContext(ctx), spf.WithResolver(resolve.ForSPF{Resolver: t.Resolver}))
	allow := fmt.Sprintf("Let the SPF record of %s allow %s, or ask with another sender.", domain, ip)
	switch result {
	case spf.Pass:
		o.Add(Good, "", "The SPF record of %s allows %s.", domain, ip)
	case spf.Fail, spf.SoftFail:
		o.Add(Reservation, allow, "The SPF record of %s does not allow %s (%s); hosts that look at it refuse us.", domain, ip, result)
	case spf.None:
		o.Add(Reservation, fmt.Sprintf("Publish one as a TXT record of %s, such as v=spf1 ip4:%s -all.", domain, ip), "%s has no SPF record.", domain)
	case spf.TempError:
		o.Add(Reservation, "Test the resolvers, then this again.", "The SPF record of %s could not be looked up now.", domain)
	case spf.PermError:
		o.Add(Reservation, "Mend the record.", "The SPF record of %s is broken: %v.", domain, err)
	default:
		o.Add(Reservation, allow, "The SPF record of %s says nothing of %s (%s).", domain, ip, result)
	}
}

func joined(addrs []netip.Addr) string {
	var out []string
	for _, a := range addrs {
		out = append(out, a.String())
	}
	return strings.Join(out, ", ")
}

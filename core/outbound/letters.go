package outbound

import (
	"context"
	"net/netip"
	"strings"

	"github.com/miekg/dns"

	"varnet/core/resolve"
	"varnet/core/smtp"
)

// LetterSender is who real letters come from, and how hosts can tell that they do.
type LetterSender struct {
	// Domain is that of the sender that people see (RFC 5322, From).
	Domain string
	// Return is a return address of the letters (MAIL FROM), where bounces come back to.
	Return string
	// Servers are the addresses that the letters leave from.
	Servers []netip.Addr
	// Selector names the DKIM key by which they are signed (RFC 6376), and Key is its record;
	// "" where we sign nothing.
	Selector, Key string
}

// TestLetterSender looks whether hosts can tell that letters come from whom they say: SPF
// (RFC 7208) for each server, the DKIM key (RFC 6376), whether one of both is aligned with the
// sender that people see (RFC 7489, section 3.1), and whether bounces can arrive.
func (t *Tester) TestLetterSender(ctx context.Context, s LetterSender) (o Outcome) {
	_, returns, _ := strings.Cut(s.Return, "@")
	allowed := t.testLetterSPF(ctx, &o, s, returns)
	signed := t.testKey(ctx, &o, s)
	switch {
	case signed:
		o.Add(Good, "", "The signature is aligned: it is of %s, the domain of the sender that people see.", s.Domain)
	case allowed && resolve.Registrable(returns) == resolve.Registrable(s.Domain):
		o.Add(Good, "", "The return addresses are aligned: %s belongs to %s, the domain of the sender that people see.", returns, s.Domain)
	default:
		o.Add(Bad, "Have the letters signed with a DKIM key of "+s.Domain+", and publish it.",
			"Nothing proves to hosts that letters come from %s: neither a signature of that domain, nor return addresses of it that SPF allows.", s.Domain)
	}
	t.testRule(ctx, &o, s.Domain)
	t.testReturns(ctx, &o, s)
	return o
}

// testReturns looks whether bounces can arrive. Of letters each reservation of a sender of
// questions is a fault: what does not come back would pass for delivered.
func (t *Tester) testReturns(ctx context.Context, o *Outcome, s LetterSender) {
	worse(o, func() { t.testSender(ctx, o, smtp.Identity{Sender: s.Return}) }, "Let its MX record lead to the server that hands bounces to Varnet.")
}

// worse turns the reservations of a test into faults, with a remedy of their own, and reports
// whether there was none.
func worse(o *Outcome, test func(), do string) (good bool) {
	before := len(o.Checks)
	test()
	good = true
	for i := range o.Checks[before:] {
		if c := &o.Checks[before+i]; c.Grade != Good {
			good, c.Grade, c.Do = false, Bad, do
		}
	}
	return good
}

// testLetterSPF reports whether SPF allows every server.
func (t *Tester) testLetterSPF(ctx context.Context, o *Outcome, s LetterSender, returns string) (allowed bool) {
	if len(s.Servers) == 0 {
		o.Add(Bad, "Write down the IP addresses that the letters leave from.", "It is not known from which addresses the letters leave.")
	}
	allowed = len(s.Servers) > 0
	for _, ip := range s.Servers {
		do := "Let the SPF record of " + returns + " allow " + ip.String() + "."
		allowed = worse(o, func() { t.testSPF(ctx, o, smtp.Identity{Name: returns, Sender: s.Return}, ip) }, do) && allowed
	}
	return allowed
}

// testKey reports whether the DKIM key is published.
func (t *Tester) testKey(ctx context.Context, o *Outcome, s LetterSender) bool {
	if s.Key == "" {
		o.Add(Reservation, "Have Varnet sign the letters, unless your server does.", "Varnet does not sign the letters with a DKIM key.")
		return false
	}
	name := s.Selector + "._domainkey." + s.Domain
	a := t.Resolver.Records(ctx, name, dns.TypeTXT)
	switch {
	case a.Status == resolve.StatusFailed:
		o.Add(Bad, "Test the resolvers, then this again.", "The DKIM key at %s could not be looked up now.", name)
	case !published(a.Texts, s.Key):
		o.Add(Bad, "Publish it as a TXT record of "+name+".", "The DKIM key is not published at %s.", name)
	default:
		o.Add(Good, "", "The DKIM key is published at %s.", name)
		return true
	}
	return false
}

// published reports whether one of some texts is a key's record: with the same p= tag.
func published(texts []string, key string) bool {
	want := tagIn(key, "p")
	for _, text := range texts {
		if want != "" && tagIn(text, "p") == want {
			return true
		}
	}
	return false
}

// tagIn returns the value of a tag of a record in the form of RFC 6376, section 3.2.
func tagIn(record, tag string) string {
	for _, part := range strings.Split(record, ";") {
		name, value, ok := strings.Cut(part, "=")
		if ok && strings.TrimSpace(name) == tag {
			return strings.Join(strings.Fields(value), "")
		}
	}
	return ""
}

// testRule looks at the domain's rule for letters that prove nothing (RFC 7489).
func (t *Tester) testRule(ctx context.Context, o *Outcome, domain string) {
	for _, name := range []string{domain, resolve.Registrable(domain)} {
		for _, text := range t.Resolver.Records(ctx, "_dmarc."+name, dns.TypeTXT).Texts {
			if tagIn(text, "v") == "DMARC1" {
				o.Add(Good, "", "%s has a DMARC record (%s).", name, "p="+tagIn(text, "p"))
				return
			}
		}
	}
	o.Add(Reservation, "Publish one as a TXT record of _dmarc."+domain+", such as v=DMARC1; p=none.", "%s has no DMARC record; large hosts want one.", domain)
}

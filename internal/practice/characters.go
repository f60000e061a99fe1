package practice

import (
	"fmt"
	"sort"
	"strings"
	"time"
)

// Character is how an operator's DNS and mail hosts behave. A nil
// hook, and a hook that gives "", leave the matter to the plain behaviour.
type Character struct {
	Name string
	// Imitates says in a line what real thing it stands for.
	Imitates string

	// NoMail tells that no mail can arrive at the operator's domains.
	NoMail bool
	// AnyAccepted tells that its hosts say yes to every mailbox.
	AnyAccepted bool
	// Mute tells that nothing can be learnt about any mailbox by asking.
	Mute bool
	// Zone writes the operator's domains into DNS; the plain
	// zone has one MX, mx1, with one address.
	Zone func(z *zone, o *Operator)

	NoPipelining bool
	// UTF8 hosts take international addresses (RFC 6531).
	UTF8 bool
	// TLS hosts offer STARTTLS.
	TLS bool
	// OldTLS hosts offer a TLS that we do not speak any more, and others do.
	OldTLS bool
	// Equal tells that the second host is preferred as the first is.
	Equal bool
	// IPv6 hosts have an IPv6 address only.
	IPv6 bool
	// Second is the character of a second host, mx2; "" for none.
	Second string
	// Deaf hosts do not listen: connections are refused.
	Deaf bool
	// Latency is waited before each answer, RoundTrip before the answers that
	// go out together, PerRecipient at each recipient.
	Latency, RoundTrip, PerRecipient time.Duration
	// Sessions is how many one address may have open; 0: any number.
	Sessions int

	// The hooks answer in place of the plain host. An answer is one reply,
	// its lines separated by "\n", or hangUp or silence.
	Greet func(p *peer) string
	Hello func(p *peer) string
	Mail  func(p *peer, sender string) string
	Rcpt  func(p *peer, mailbox string, t Truth) string
	Data  func(p *peer, mailboxes []string) string
}

// Honest reports whether the character's hosts take the mailboxes there are and refuse
// the others, so that no domain of theirs is in doubt.
func (c Character) Honest() bool {
	switch c.Name {
	case "accepts-by-chance", "accepts-first", "gives-in", "turns-accept-all", "takes-unknown", "says-252", "cautious":
		return false
	}
	return !c.AnyAccepted && !c.Mute && c.Name != "catch-all"
}

// What a hook can answer beside a reply.
const (
	hangUp  = "(hangs up)"
	silence = "(says nothing)"
	nothing = "(has answered already)"
	// hangUpAtOnce throws away the replies that are still on their way.
	hangUpAtOnce = "(hangs up at once)"
	// verbatim begins bytes that are sent as they are.
	verbatim = "(bytes)"
)

var characters = map[string]*Character{}

// Characters lists all characters by name.
func Characters() []Character {
	var out []Character
	for _, c := range characters {
		out = append(out, *c)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// plainRcpt is the honest answer about a mailbox.
func plainRcpt(mailbox string, t Truth) string {
	switch {
	case t.Full:
		return "552 5.2.2 The mailbox is over its quota"
	case t.Disabled:
		return "550 5.2.1 The mailbox is disabled"
	case t.Exists:
		return "250 2.1.5 Ok"
	}
	return fmt.Sprintf("550 5.1.1 <%s>: no such mailbox here", mailbox)
}

func init() {
	for _, some := range [][]Character{
		ordinaryCharacters, nameServiceCharacters, greylistingCharacters, limitingCharacters, distantCharacters(), lyingCharacters, refusingCharacters,
		brokenCharacters, wireCharacters, speakingCharacters(), moodyCharacters, backedUpCharacters, encryptingCharacters, foreignCharacters, foreignLetters(),
	} {
		for _, c := range some {
			characters[c.Name] = &c
		}
	}
}

// saysYes takes every mailbox.
func saysYes(*peer, string, Truth) string { return "250 2.1.5 Ok" }

// ordinaryCharacters are those that every list meets.
var ordinaryCharacters = []Character{
	{Name: "plain", Imitates: "An ordinary host that says what is so."},
	{Name: "no-pipelining", Imitates: "A host that takes one command at a time.", NoPipelining: true},
	{Name: "catch-all", Imitates: "A business host that takes everything for its domain.", AnyAccepted: true, Rcpt: saysYes},
	{Name: "greylisting", Imitates: "A host that puts each new triplet off for a while (RFC 6647).",
		Rcpt: func(p *peer, mailbox string, t Truth) string {
			if !p.host.seenBefore(p.source+"|"+p.sender+"|"+mailbox, p.host.world.greylist()) {
				return "450 4.2.0 Greylisted, please come back a little later"
			}
			return ""
		}},
	{Name: "slow", Imitates: "A host under load that takes its time with every answer.", Latency: 150 * time.Millisecond},
	{Name: "deliberate", Imitates: "A host that thinks 40 ms about each recipient.", PerRecipient: 40 * time.Millisecond},
	{Name: "silent", Mute: true, Imitates: "A host that takes the connection and never says a word.",
		Greet: func(*peer) string { return silence }},
	{Name: "refuses", Mute: true, Imitates: "A host whose port is closed.", Deaf: true},
	{Name: "drops", Imitates: "A host that breaks off in the middle of the session, at every third recipient.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.recipients%3 == 0 {
				return hangUp
			}
			return ""
		}},
	{Name: "busy", Mute: true, Imitates: "A host that is never free (421 at the greeting).",
		Greet: func(*peer) string { return "421 4.3.2 Too busy at the moment, try again later" }},
	{Name: "blocks-us", Mute: true, Imitates: "A host that has our address on its blocklist and says so at RCPT, with a mailbox's code.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if !p.isUs() {
				return ""
			}
			return "550 5.7.1 Service unavailable; client host [" + p.source + "] blocked using the blocklist at bl.hedge.example"
		}},
	{Name: "blocks-at-banner", Mute: true, Imitates: "A host that refuses listed clients before they speak.",
		Greet: func(p *peer) string {
			if !p.isUs() {
				return ""
			}
			return "554 5.7.1 Your address has a poor reputation; no service"
		}},
	{Name: "terse", Imitates: "An old host without enhanced codes and without many words.",
		Rcpt: func(_ *peer, _ string, t Truth) string {
			if t.Deliverable() {
				return "250 ok"
			}
			return "550 no"
		}},
	{Name: "helo-only", Imitates: "A host of before 1995 that does not know EHLO.", NoPipelining: true,
		Hello: func(p *peer) string {
			if p.verb == "EHLO" {
				return "502 Command not implemented"
			}
			return "250 " + p.host.Name
		}},
	{Name: "impatient", Imitates: "A host that hangs up on too many unknown users in a session.",
		Rcpt: func(p *peer, _ string, t Truth) string {
			if p.refused >= 20 {
				return "421 4.7.0 Too many unknown recipients, closing"
			}
			return ""
		}},
	{Name: "accepts-by-chance", Mute: true, Imitates: "A host that takes every other mailbox whatever its name.",
		Rcpt: func(p *peer, mailbox string, _ Truth) string {
			if p.host.world.draw("chance"+strings.ToLower(mailbox)) < 0.5 {
				return "250 2.1.5 Ok"
			}
			return "550 5.1.1 No such user"
		}},
}

// nameServiceCharacters are those whose domains, not whose hosts, are odd.
var nameServiceCharacters = []Character{
	{Name: "absent", Imitates: "A domain that does not exist.", NoMail: true, Zone: func(*zone, *Operator) {}},
	{Name: "null-mx", Imitates: "A domain that says it takes no mail (RFC 7505).", NoMail: true,
		Zone: func(z *zone, o *Operator) { z.each(o, func(d string) { z.mx(d, 0, ".") }) }},
	{Name: "no-exchanger", Imitates: "A parked domain: it exists, without any host.", NoMail: true,
		Zone: func(z *zone, o *Operator) { z.each(o, z.exists) }},
	{Name: "bad-exchanger", Imitates: "A domain whose MX names a host that has no address.", NoMail: true,
		Zone: func(z *zone, o *Operator) { z.each(o, func(d string) { z.mx(d, 10, "nowhere."+o.Name) }) }},
	{Name: "implicit", Imitates: "A domain without MX whose own address takes the mail (RFC 5321 section 5.1).",
		Zone: func(z *zone, o *Operator) { z.each(o, func(d string) { z.a(d, o.host(1)) }) }},
	{Name: "servfail", Mute: true, Imitates: "A domain whose name servers are broken.",
		Zone: func(z *zone, o *Operator) { z.each(o, z.broken) }},
	{Name: "first-mx-dead", Imitates: "A domain whose first exchanger is gone and whose second works.",
		Zone: func(z *zone, o *Operator) {
			z.each(o, func(d string) { z.mx(d, 10, "mx3."+o.Name); z.mx(d, 20, "mx1."+o.Name) })
			z.a("mx1."+o.Name, o.host(1))
			z.a("mx3."+o.Name, o.host(3))
		}},
	{Name: "flaky-dns", Imitates: "A domain whose name servers fail at every second question.",
		Zone: func(z *zone, o *Operator) {
			z.each(o, func(d string) { z.mx(d, 10, "mx1."+o.Name); z.flaky(d) })
			z.a("mx1."+o.Name, o.host(1))
		}},
	{Name: "alias", Imitates: "A domain that is a CNAME of another.",
		Zone: func(z *zone, o *Operator) {
			z.each(o, func(d string) { z.cname(d, "mail."+o.Name) })
			z.mx("mail."+o.Name, 10, "mx1."+o.Name)
			z.a("mx1."+o.Name, o.host(1))
		}},
}

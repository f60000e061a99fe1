package practice

import (
	"fmt"
	"strings"
	"time"
)

// moodyCharacters change in the middle, or count what they are asked.
var moodyCharacters = []Character{
	{Name: "limits-in-bare-words", Imitates: "A host without many words that refuses everybody once it was asked about 60 recipients in three seconds.",
		Rcpt: func(p *peer, _ string, t Truth) string {
			switch {
			case p.isUs() && p.host.over(60, 3*time.Second):
				return complaint + "550 Administrative prohibition, for now"
			case t.Deliverable():
				return "250 ok"
			}
			return "550 no"
		}},
	{Name: "turns-accept-all", Imitates: "A host that knows its mailboxes at first and takes anything from the 60th question of ours on.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.isUs() && p.host.Stats().Recipients >= 60 {
				return "250 2.1.5 Ok"
			}
			return ""
		}},
	{Name: "complains-at-recipients", Imitates: "A host that has had enough after ten recipients of a session.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.isUs() && p.recipients > 10 {
				return complaint + "450 4.7.1 Error: too much mail from " + p.source
			}
			return ""
		}},
	{Name: "counts-bad-recipients", Imitates: "A host that has had enough after six unknown recipients of a session.",
		Rcpt: func(p *peer, _ string, t Truth) string {
			if p.isUs() && p.refused >= 6 {
				return complaint + "451 4.7.1 Too many bad recipients, try again later"
			}
			return ""
		}},
	{Name: "policy-service", Imitates: "A mail server whose policy service counts what a client asks, and speaks behind the server's own words.",
		Rcpt: func(p *peer, mailbox string, _ Truth) string {
			if p.isUs() && p.recipients > 25 {
				return complaint + "450 4.7.1 <" + mailbox + ">: Recipient address rejected: Policy rejection; Message count quota exceeded"
			}
			return ""
		}},
	{Name: "refuses-by-policy", Imitates: "A host that refuses unknown recipients in the words of a policy.",
		Rcpt: func(_ *peer, _ string, t Truth) string {
			if !t.Exists {
				return "550 5.7.1 Access denied"
			}
			return ""
		}},
	{Name: "no-postmaster", Imitates: "A hosted domain without a postmaster.",
		Rcpt: func(_ *peer, mailbox string, _ Truth) string {
			if strings.HasPrefix(mailbox, "postmaster@") {
				return "550 5.4.1 Recipient address rejected: Access denied"
			}
			return ""
		}},
	{Name: "tarpits-long", Imitates: "A host that takes almost a second longer for each refusal of a session.",
		Rcpt: func(p *peer, _ string, t Truth) string {
			if p.isUs() && !t.Exists {
				time.Sleep(time.Duration(p.refused+1) * 900 * time.Millisecond)
			}
			return ""
		}},
	{Name: "few-slots", Imitates: "A host with two slots for an address, whose further clients wait for one in silence.",
		Greet: func(p *peer) string {
			if p.isUs() && p.host.openOf(p.source) > 2 {
				return silence
			}
			return ""
		}},
	{Name: "silent-to-us", Mute: true, Imitates: "A host whose firewall lets nothing of ours through and takes mail from others.",
		Greet: func(p *peer) string {
			if p.isUs() {
				return silence
			}
			return ""
		}},
	{Name: "vanity", Imitates: "Domains with a mail host's name of their own each, all of one machine that allows three sessions.", Sessions: 3,
		Zone: func(z *zone, o *Operator) {
			z.each(o, func(d string) { z.mx(d, 10, "mail."+d); z.a("mail."+d, o.host(1)) })
		}},
}

// backedUpCharacters have a second host that takes anything.
var backedUpCharacters = []Character{
	{Name: "backup-alone", Mute: true, Imitates: "A domain whose first exchanger refuses us for good, before a second that takes anything.", Second: "catch-all",
		Greet: func(p *peer) string {
			if p.isUs() {
				return "554 5.3.2 No service here"
			}
			return ""
		}},
	{Name: "backup-meanwhile", Imitates: "A domain whose first exchanger is down for a while, before a second that takes anything.", Second: "catch-all",
		Greet: func(p *peer) string {
			if !p.host.seenBefore("up", 2*time.Second) {
				return "421 4.3.2 Down for a while"
			}
			return ""
		}},
	{Name: "backup-for-breaks", Imitates: "A domain whose first exchanger breaks off its first sessions, before a second that takes anything.", Second: "catch-all",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.isUs() && p.host.Stats().Sessions <= 4 {
				return hangUp
			}
			return ""
		}},
	{Name: "equal-exchangers", Imitates: "A domain with two exchangers of the same preference.", Second: "plain", Equal: true},
}

// encryptingCharacters want their sessions encrypted, each in its way.
var encryptingCharacters = []Character{
	{Name: "tls-by-450", Imitates: "A host that wants encryption and says so at the recipient, with a 450.", TLS: true,
		Rcpt: func(p *peer, mailbox string, _ Truth) string {
			if !p.encrypted {
				return "450 4.7.1 <" + mailbox + ">: Recipient address rejected: Session encryption is required"
			}
			return ""
		}},
	{Name: "tls-by-451", Imitates: "A host that wants encryption and says so at the sender, with a 451.", TLS: true,
		Mail: func(p *peer, _ string) string {
			if !p.encrypted {
				return "451 5.7.3 STARTTLS is required to send mail"
			}
			return ""
		}},
	{Name: "tls-by-550", Imitates: "A host that wants encryption and says so with a code for it.", TLS: true,
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if !p.encrypted {
				return "550 5.7.10 Encryption needed"
			}
			return ""
		}},
	{Name: "tls-of-old", Mute: true, Imitates: "A host that wants encryption of a kind that we do not speak any more.", TLS: true, OldTLS: true,
		Mail: func(p *peer, _ string) string {
			if !p.encrypted {
				return "530 5.7.0 Must issue a STARTTLS command first"
			}
			return ""
		}},
}

// foreignLetters write in the letters of their country, or not quite as the RFC has
// it.
func foreignLetters() (out []Character) {
	for name, words := range map[string][2]string{
		"latin-letters":    {"A host that writes German in ISO 8859-1.", "550 Empf\xe4nger unbekannt"},
		"chinese-letters":  {"A host that writes Chinese in GBK.", "550 \xd3\xc3\xbb\xa7\xb2\xbb\xb4\xe6\xd4\xda"},
		"japanese-letters": {"A host that writes Japanese in ISO-2022-JP.", "550 \x1b$B%f!<%6!<$,B8:_$7$^$;$s\x1b(B"},
		"tabs":             {"A host that writes a tab behind the code.", "550\tno such user here"},
	} {
		out = append(out, Character{Name: name, Imitates: words[0],
			Rcpt: func(_ *peer, _ string, t Truth) string {
				if !t.Exists {
					return verbatim + words[1] + "\r\n"
				}
				return ""
			}})
	}
	return out
}

// foreignCharacters have words of their own.
var foreignCharacters = []Character{
	{Name: "names-the-local-part", Imitates: "A host that names the recipient without its domain.",
		Rcpt: func(_ *peer, mailbox string, t Truth) string {
			if !t.Exists {
				local, _, _ := strings.Cut(mailbox, "@")
				return fmt.Sprintf("550 %s: nobody here by that name", local)
			}
			return ""
		}},
}

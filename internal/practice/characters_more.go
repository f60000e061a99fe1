package practice

import (
	"fmt"
	"strings"
	"sync"
	"time"
)

// asked is the address of the machine that verifies. Hosts that block us block
// it alone: a mailing goes out from another address.
const asked = "127.0.0.1"

func (p *peer) isUs() bool { return p.source == asked || p.source == "::1" }

var greylistingCharacters = []Character{
	{Name: "greylists-clients", Imitates: "A host that puts off every recipient of a client it has not met, and lets the client's next connection through.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if !p.host.seenBefore(p.source, p.host.world.greylist()) {
				return "450 4.7.1 Client not met before, please come back in a while"
			}
			return ""
		}},
	{Name: "greylists-the-known", Imitates: "A host that looks the mailbox up first and greylists only those that exist.",
		Rcpt: func(p *peer, mailbox string, t Truth) string {
			if t.Exists && !p.host.seenBefore(p.source+"|"+mailbox, p.host.world.greylist()) {
				return "451 4.7.1 Please try again in a few seconds"
			}
			return ""
		}},
	{Name: "verifies-itself", Imitates: "A host that looks a mailbox up elsewhere and says so meanwhile.",
		Rcpt: func(p *peer, mailbox string, _ Truth) string {
			if !p.host.seenBefore("v|"+mailbox, p.host.world.greylist()) {
				return "450 4.1.1 <" + mailbox + ">: Recipient address rejected: unverified address: Address verification in progress"
			}
			return ""
		}},
	{Name: "cautious", Imitates: "A host that gives unknown users a 450, for ever.",
		Rcpt: func(_ *peer, mailbox string, t Truth) string {
			if !t.Exists {
				return "450 4.1.1 <" + mailbox + ">: Recipient address rejected: User unknown in local recipient table"
			}
			return ""
		}},
}

var limitingCharacters = []Character{
	{Name: "limits-recipients", Imitates: "A host that takes ten recipients a transaction.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if len(p.taken) >= 10 {
				return "452 4.5.3 Too many recipients"
			}
			return ""
		}},
	{Name: "limits-sessions", Imitates: "A host that allows one connection from an address at a time.",
		Greet: func(p *peer) string {
			if p.host.Stats().Open > 1 {
				return "421 4.7.0 Too many connections from your address"
			}
			return ""
		}},
	{Name: "limits-rate", Imitates: "A host that allows an address 60 recipients in a second.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.host.over(60, time.Second) {
				return complaint + "451 4.7.0 Your rate limit is reached, slow down"
			}
			return ""
		}},
	{Name: "421-midway", Imitates: "A host that leaves with a 421 after five recipients.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.recipients > 5 {
				return "421 4.3.2 Going down for a moment"
			}
			return ""
		}},
	{Name: "tarpits", Imitates: "A host that makes each refusal of a session slower than the last.",
		Rcpt: func(p *peer, _ string, t Truth) string {
			if !t.Exists {
				time.Sleep(time.Duration(p.refused+1) * 20 * time.Millisecond)
			}
			return ""
		}},
}

// distantCharacters are far away and allow few connections.
func distantCharacters() (out []Character) {
	for name, sessions := range map[string]int{"far": 10, "far-four": 4, "far-two": 2} {
		out = append(out, Character{Name: name, Imitates: fmt.Sprintf("A host 20 ms away that looks each recipient up in 10 ms and allows %d connections from an address.", sessions),
			RoundTrip: 20 * time.Millisecond, PerRecipient: 10 * time.Millisecond, Sessions: sessions})
	}
	return out
}

var lyingCharacters = []Character{
	{Name: "refuses-at-data", Imitates: "A host that takes every recipient and refuses the message when one does not exist.", AnyAccepted: true, Rcpt: saysYes,
		Data: func(p *peer, mailboxes []string) string {
			for _, m := range mailboxes {
				if !p.host.world.Truth(Canonical(m)).Deliverable() {
					return "550 5.1.1 A recipient of this message does not exist"
				}
			}
			return ""
		}},
	{Name: "bounces-afterwards", Imitates: "A host that takes everything and sends it back later.", AnyAccepted: true, Rcpt: saysYes},
	{Name: "accepts-first", Imitates: "A host that takes the first three recipients of a session unseen.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.recipients <= 3 {
				return "250 2.1.5 Ok"
			}
			return ""
		}},
	{Name: "gives-in", Imitates: "A host that takes anything after six refusals in a session.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.refused >= 6 {
				return "250 2.1.5 Ok"
			}
			return ""
		}},
	{Name: "backup-takes-all", Imitates: "A domain whose second exchanger takes everything, while the first is often busy.", Second: "catch-all",
		Greet: func(p *peer) string {
			if p.host.Stats().Sessions%2 == 1 {
				return "421 4.3.2 Busy, try again"
			}
			return ""
		}},
	{Name: "takes-unknown", Imitates: "A host that says 250 and that there is no such user, in one breath.",
		Rcpt: func(_ *peer, _ string, t Truth) string {
			if !t.Exists {
				return "250 2.1.5 Ok, queued for unknown user"
			}
			return ""
		}},
	{Name: "says-252", Mute: true, Imitates: "A host that will not say.",
		Rcpt: func(*peer, string, Truth) string { return "252 2.1.5 Cannot verify, but will take the message" }},
}

var refusingCharacters = []Character{
	{Name: "refuses-late-for-helo", Mute: true, Imitates: "A host that holds its refusal of our name back until RCPT.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.isUs() {
				return "550 5.7.1 <verify>: Helo command rejected: your name does not resolve"
			}
			return ""
		}},
	{Name: "refuses-late-for-sender", Mute: true, Imitates: "A host that holds its refusal of our sender back until RCPT.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.isUs() {
				return "550 5.1.8 <" + p.sender + ">: Sender address rejected: Domain not found"
			}
			return ""
		}},
	{Name: "refuses-sender", Mute: true, Imitates: "A host that refuses our MAIL FROM and everything after.",
		Mail: func(p *peer, _ string) string {
			if p.isUs() {
				return "550 5.7.1 Sender not welcome"
			}
			return ""
		}},
	{Name: "explains-once", Mute: true, Imitates: "A host that explains at the first recipient that we are listed, and says little after.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			switch {
			case !p.isUs():
				return ""
			case p.recipients == 1:
				return "550-5.7.1 Your address is on our block\n550 5.7.1 list, see https://hedge.example/why"
			}
			return "550 denied"
		}},
	{Name: "denies-relay", Mute: true, Imitates: "A host that the domain names and that knows nothing of it.", NoMail: true,
		Rcpt: func(*peer, string, Truth) string { return "554 5.7.1 Relay access denied" }},
	{Name: "unknown-to-all", Mute: true, Imitates: "A broken host that calls every mailbox unknown, its postmaster too.",
		Rcpt: func(*peer, string, Truth) string { return "550 5.1.1 User unknown" }},
	{Name: "prohibits", Mute: true, Imitates: "A host that refuses everybody with words that tell nothing.",
		Rcpt: func(*peer, string, Truth) string { return "550 Administrative prohibition" }},
}

var brokenCharacters = []Character{
	{Name: "babbles", Mute: true, Imitates: "Something on the mail port that is not a mail host.",
		Greet: func(*peer) string { return verbatim + "HTTP/1.0 400 Bad Request\r\n\r\n" }},
	{Name: "throws-away", Imitates: "A host that breaks off in a window and throws away the answers to it.",
		Rcpt: func(p *peer, _ string, _ Truth) string {
			if p.recipients%7 == 0 {
				return hangUpAtOnce
			}
			return ""
		}},
	{Name: "answers-twice", Mute: true, Imitates: "A host that answers now and then twice.",
		Rcpt: func(p *peer, mailbox string, t Truth) string {
			if p.recipients == 4 {
				return verbatim + "250 2.1.5 Ok\r\n" + plainRcpt(mailbox, t) + "\r\n"
			}
			return ""
		}},
	{Name: "endless-greeting", Mute: true, Imitates: "A host that never comes to the end of its greeting.",
		Greet: func(*peer) string {
			return verbatim + strings.Repeat("220-welcome, welcome\r\n", 400)
		}},
}

// wantsTLS takes nothing that is not encrypted (RFC 3207 section 4).
func wantsTLS(p *peer, _ string) string {
	if !p.encrypted {
		return "530 5.7.0 Must issue a STARTTLS command first"
	}
	return ""
}

var wireCharacters = []Character{
	{Name: "tls-only", Imitates: "A host that answers only over TLS.", TLS: true, Mail: wantsTLS},
	{Name: "tls-never", Mute: true, Imitates: "A host that wants TLS and does not offer it.", Mail: wantsTLS},
	{Name: "utf8", Imitates: "A host that takes international addresses.", UTF8: true},
	{Name: "ipv6-only", Imitates: "A host with an IPv6 address only.", IPv6: true},
	{Name: "folds", Imitates: "A host that folds its replies in the middle of a phrase.",
		Greet: func(p *peer) string { return "220 " + p.host.Name + "\n220 is glad to\n220 see you" },
		Rcpt: func(_ *peer, _ string, t Truth) string {
			if !t.Exists {
				return "550-5.1.1 There is no\n550-5.1.1 such\n550 5.1.1 mailbox here"
			}
			return ""
		}},
	{Name: "quotes-another", Imitates: "A host that passes on what the host behind it said, with that one's codes inside.",
		Rcpt: func(_ *peer, mailbox string, t Truth) string {
			if !t.Exists {
				return "550 5.1.1 <" + mailbox + ">: Recipient address rejected: undeliverable address: host 127.9.9.9 said: 550 5.1.1 <other@fernhollow.example>: user unknown (in reply to RCPT TO command)"
			}
			return ""
		}},
	{Name: "greets-late", Imitates: "A host that takes a second to greet.",
		Greet: func(*peer) string { time.Sleep(time.Second); return "" }},
	{Name: "full-as-452", Imitates: "A host that calls full mailboxes a passing thing.",
		Rcpt: func(_ *peer, _ string, t Truth) string {
			if t.Full {
				return "452 4.2.2 The mailbox is full"
			}
			return ""
		}},
}

// speakingCharacters say in other languages what a plain host says, without
// enhanced codes.
func speakingCharacters() (out []Character) {
	for language, words := range map[string][3]string{
		"german":  {"550 Benutzer unbekannt", "552 Das Postfach ist voll", "550 Das Konto ist deaktiviert"},
		"french":  {"550 Cette adresse n'existe pas", "552 boîte aux lettres pleine", "550 compte désactivé"},
		"spanish": {"550 El usuario no existe", "552 El buzón está lleno", "550 cuenta desactivada"},
		"polish":  {"550 Nieznany użytkownik", "552 skrzynka jest pełna", "550 konto zablokowane"},
		"russian": {"550 Пользователь не найден", "552 почтовый ящик переполнен", "550 почтовый ящик отключен"},
	} {
		out = append(out, Character{Name: "speaks-" + language, Imitates: fmt.Sprintf("A host that speaks %s.", strings.ToUpper(language[:1])+language[1:]),
			Rcpt: func(_ *peer, _ string, t Truth) string {
				switch {
				case t.Full:
					return words[1]
				case t.Disabled:
					return words[2]
				case !t.Exists:
					return words[0]
				}
				return ""
			}})
	}
	return out
}

// rate counts events within a moving window.
type rate struct {
	mu   sync.Mutex
	seen []time.Time
}

// over notes an event and reports whether there were more than so many of them
// in the time.
func (h *Host) over(most int, within time.Duration) bool {
	r := &h.rate
	r.mu.Lock()
	defer r.mu.Unlock()
	now := time.Now()
	for len(r.seen) > 0 && now.Sub(r.seen[0]) > within {
		r.seen = r.seen[1:]
	}
	if len(r.seen) >= most {
		return true
	}
	r.seen = append(r.seen, now)
	return false
}

// Package reply reads what a mail host's reply means. The first question is
// always about whom it is: the mailbox, the domain, us, or the moment. Only
// what is about the mailbox or its domain can make an address undeliverable.
//
// Replies are held against one ordered table of rules (rules.go); the first
// that fits gives the meaning. A rule looks at the enhanced code (RFC 3463),
// the basic code (RFC 5321) and the words of the text (words/, in two dozen
// languages); each has its reason and an example beside it.
package reply

import (
	"strings"

	"varnet/core/finding"
	"varnet/core/phrase"
	"varnet/core/smtp"
)

// About is whom a reply is about.
type About string

// Whom a reply can be about.
const (
	Mailbox About = "mailbox"
	Domain  About = "domain"
	Us      About = "us"
	Moment  About = "moment"
)

// Effect is what the reply does to the question.
type Effect string

// The effects.
const (
	Accepted  Effect = "accepted"
	Refused   Effect = "refused"
	Postponed Effect = "postponed"
	Unclear   Effect = "unclear"
)

// Meaning is what a reply says.
type Meaning struct {
	About  About
	Effect Effect
	Cause  finding.Cause
	// Why is the reason of the rule that gave the meaning.
	Why string
}

// Throttles reports whether the host says that we ask too much or too fast.
func (m Meaning) Throttles() bool { return m.About == Us && m.Effect == Postponed }

// Greylists reports whether the host puts us off as a stranger.
func (m Meaning) Greylists() bool { return m.Why == greylisting }

// Vague reports a refusal that does not say whom it is about.
func (m Meaning) Vague() bool { return m.Effect == Unclear || m.Why == policyOnly }

// Read returns what a reply to RCPT TO means. q is what was asked; its parts may be
// empty where they are not known.
func Read(r smtp.Reply, q Question) Meaning { return read(r, clean(r.Text(), q)) }

func read(r smtp.Reply, t text) Meaning {
	for i := range rules {
		if rules[i].fits(r, t) {
			return rules[i].Meaning
		}
	}
	return Meaning{Moment, Unclear, finding.ExchangerGarbled, "No such reply belongs to RCPT TO."}
}

// Reader reads the replies to RCPT TO of one identity and remembers what they meant:
// most of what a host says is the same few sentences, with other addresses in them.
// It is for one goroutine, and for as many replies as may be remembered.
type Reader struct {
	// Helo and Sender are as in Question.
	Helo, Sender string

	same  map[string]Meaning // by all that was said, without the mailbox
	alike map[sentence]Meaning
}

// sentence is all of a reply that its meaning rests on.
type sentence struct {
	code     int
	enhanced string
	text     text
}

// Read returns what a reply about a mailbox means, whose words are as r.String
// returns them.
func (r *Reader) Read(s smtp.Reply, words, mailbox string) Meaning {
	words, quoted := r.withoutMailbox(words, mailbox)
	if m, known := r.same[words]; known && !quoted {
		return m
	}
	if r.same == nil {
		r.same, r.alike = map[string]Meaning{}, map[sentence]Meaning{}
	}
	like := sentence{s.Code, s.Enhanced, clean(s.Text(), Question{mailbox, r.Helo, r.Sender})}
	m, known := r.alike[like]
	if !known {
		m = read(s, like.text)
		r.alike[like] = m
	}
	if !quoted {
		r.same[words] = m
	}
	return m
}

// withoutMailbox returns the words of a reply in lower case, with NUL in place of the mailbox. It also reports whether the
// rest still quotes a part of the mailbox, or clean would not see a mailbox in it. If neither, the same words about any
// other mailbox mean the same.
func (r *Reader) withoutMailbox(words, mailbox string) (rest string, quoted bool) {
	words, mailbox = phrase.Fold(words), phrase.Fold(mailbox)
	local, domain, _ := strings.Cut(mailbox, "@")
	rest = strings.ReplaceAll(words, mailbox, "\x00")
	odd := strings.Contains(words, "\x00") || strings.Contains(local, `"`) || strings.HasPrefix(local, "www.") || mailbox == phrase.Fold(r.Sender)
	return rest, odd || strings.Contains(rest, local) || strings.Contains(rest, domain)
}

// ReadSession returns what a reply before RCPT TO means (greeting, EHLO, MAIL
// FROM): it is never about a mailbox, whatever it says.
func ReadSession(r smtp.Reply, q Question) Meaning {
	m := Read(r, q)
	switch {
	case m.About == Us || m.About == Moment && m.Effect != Unclear:
		return m
	case r.Permanent():
		return Meaning{Us, Refused, finding.ExchangerBlocksUs, "Refused before any mailbox was named: it is about us."}
	}
	return Meaning{Moment, Postponed, finding.ExchangerUnavailable, "Put off before any mailbox was named."}
}

// rule fits a reply when the codes fit, one of the words occurs in the text, and
// none of without does. Empty conditions always fit.
type rule struct {
	codes    []int    // basic codes; 4 and 5 stand for the whole class
	enhanced []string // enhanced codes without their class: "1.1"; "7." is a prefix
	words    phrase.List
	without  phrase.List
	links    bool // links are read too
	Meaning
	example string
}

func (r *rule) fits(s smtp.Reply, t text) bool {
	if !r.codeFits(s.Code) || !r.enhancedFits(s.Enhanced) {
		return false
	}
	text := t.plain
	if r.links {
		text = t.all
	}
	return (len(r.words) == 0 || r.words.In(text)) && !r.without.In(text)
}

func (r *rule) codeFits(code int) bool {
	for _, c := range r.codes {
		if c == code || c < 10 && c == code/100 {
			return true
		}
	}
	return len(r.codes) == 0
}

func (r *rule) enhancedFits(code string) bool {
	if len(r.enhanced) == 0 {
		return true
	}
	if len(code) < 3 {
		return false
	}
	detail := code[2:]
	for _, e := range r.enhanced {
		if e == detail || strings.HasSuffix(e, ".") && strings.HasPrefix(detail, e) {
			return true
		}
	}
	return false
}

// SameWords reports whether two replies say the same, whatever addresses, host
// numbers, times and ids they name (Words).
func SameWords(a, b smtp.Reply, qa, qb Question) bool {
	return a.Code == b.Code && a.Enhanced == b.Enhanced && Words(a, qa) == Words(b, qb)
}

// Words returns the words of a reply without what changes from one reply to the next:
// addresses, host numbers, links, times and ids. Two replies with the same words say
// the same.
func Words(r smtp.Reply, q Question) string {
	var kept []string
	for w := range strings.FieldsSeq(clean(r.Text(), q).plain) {
		if w != markBox && !strings.ContainsAny(w, "0123456789") {
			kept = append(kept, w)
		}
	}
	return strings.Join(kept, " ")
}

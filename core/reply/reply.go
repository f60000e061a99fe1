// Package reply tells what a mail host's reply means. The first question is
// always about whom it is: the mailbox, the domain, us, or the moment. Only
// what is about the mailbox or its domain can make an address undeliverable.
//
// Replies are held against one ordered table of rules (rules.go); the first
// that fits gives the meaning. A rule looks at the enhanced code (RFC 3463),
// the basic code (RFC 5321) and stems of the text; each has its reason and an
// example beside it.
package reply

import (
	"strings"

	"varnet/core/finding"
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

// Read tells what a reply to RCPT TO means.
func Read(r smtp.Reply) Meaning { return read(r, clean(r.Text())) }

func read(r smtp.Reply, text string) Meaning {
	for i := range rules {
		if rules[i].fits(r, text) {
			return rules[i].Meaning
		}
	}
	return Meaning{Moment, Unclear, finding.ExchangerGarbled, "No such reply belongs to RCPT TO."}
}

// Reader reads replies to RCPT TO and remembers what they meant: most of what a host
// says is the same few sentences, with other addresses in them. The zero value is
// ready; it is for one goroutine, and for as many replies as may be remembered.
type Reader struct {
	same  map[string]Meaning // by all that was said
	alike map[sentence]Meaning
}

// sentence is all of a reply that its meaning rests on.
type sentence struct {
	code           int
	enhanced, text string
}

// Read tells what a reply means, whose words are as r.String gives them.
func (r *Reader) Read(s smtp.Reply, words string) Meaning {
	if m, known := r.same[words]; known {
		return m
	}
	if r.same == nil {
		r.same, r.alike = map[string]Meaning{}, map[sentence]Meaning{}
	}
	like := sentence{s.Code, s.Enhanced, clean(s.Text())}
	m, known := r.alike[like]
	if !known {
		m = read(s, like.text)
		r.alike[like] = m
	}
	r.same[words] = m
	return m
}

// ReadSession tells what a reply before RCPT TO means (greeting, EHLO, MAIL
// FROM): it is never about a mailbox, whatever it says.
func ReadSession(r smtp.Reply) Meaning {
	m := Read(r)
	switch {
	case m.About == Us || m.About == Moment && m.Effect != Unclear:
		return m
	case r.Permanent():
		return Meaning{Us, Refused, finding.ExchangerBlocksUs, "Refused before any mailbox was named: it is about us."}
	}
	return Meaning{Moment, Postponed, finding.ExchangerUnavailable, "Put off before any mailbox was named."}
}

// rule fits a reply when the codes fit and one of the phrases stands in the
// text. Empty conditions always fit.
type rule struct {
	codes    []int    // basic codes; 4 and 5 stand for the whole class
	enhanced []string // enhanced codes without their class: "1.1"; "7." is a prefix
	phrases  []phrase
	Meaning
	example string
}

// phrase is a text whose parts, split at "…", stand in the reply in this order.
type phrase []string

func (r *rule) fits(s smtp.Reply, text string) bool {
	return r.codeFits(s.Code) && r.enhancedFits(s.Enhanced) && r.textFits(text)
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

func (r *rule) textFits(text string) bool {
	for _, p := range r.phrases {
		if p.stands(text) {
			return true
		}
	}
	return len(r.phrases) == 0
}

func (p phrase) stands(text string) bool {
	for _, part := range p {
		i := strings.Index(text, part)
		if i < 0 {
			return false
		}
		text = text[i+len(part):]
	}
	return true
}

// phrases reads a list of phrases, one for each line.
func phrases(list string) []phrase {
	var out []phrase
	for line := range strings.SplitSeq(list, "\n") {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, strings.Split(line, "…"))
		}
	}
	return out
}

// clean makes a text ready for matching: lower case, single spaces, and
// without addresses, whose names would be read as words of the host.
func clean(text string) string {
	words := strings.Fields(strings.ToLower(text))
	kept := words[:0]
	for _, w := range words {
		if !strings.Contains(w, "@") {
			kept = append(kept, w)
		}
	}
	return strings.Join(kept, " ")
}

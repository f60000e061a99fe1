package probe

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"varnet/core/reply"
)

// Accepts is what an exchanger does with mail for mailboxes that do not exist.
type Accepts string

// The ways of taking mail.
const (
	AcceptsKnown   Accepts = "known"   // refuses what does not exist: its yes counts
	AcceptsAny     Accepts = "any"     // catch-all
	AcceptsMixed   Accepts = "mixed"   // takes some and refuses others: its yes proves nothing
	AcceptsUnknown Accepts = "unknown" // gave no answer about made-up mailboxes
)

// Sentence says what the acceptance means for the domain's mailboxes.
func (a Accepts) Sentence() string {
	return map[Accepts]string{
		AcceptsKnown:   "It refuses made-up mailboxes, so a yes of it counts.",
		AcceptsAny:     "It takes mail for mailboxes that do not exist, so its yes proves nothing.",
		AcceptsMixed:   "It takes some mailboxes that do not exist and refuses others, so neither its yes nor its no proves anything.",
		AcceptsUnknown: "It has given no clear answer about them yet, so a yes would prove nothing.",
	}[a]
}

// Acceptance is what one exchanger of a domain, asked by one route, did with made-up
// mailboxes of that domain. Another exchanger, or another route, may find it
// otherwise.
type Acceptance struct {
	Domain    string
	Exchanger string
	Route     int64
	Accepts   Accepts
	At        time.Time
	MadeUp    []MadeUp
	// Refused counts the made-up mailboxes it refused in a row, this time and before.
	Refused int
	// TookNone counts the listed mailboxes it refused since a visit in which it took one.
	TookNone int
	// ListedTaken and ListedRefused count all answers about listed mailboxes.
	ListedTaken   int
	ListedRefused int
	// PutOff are made-up mailboxes that it put off as strangers, the oldest first. It lets
	// in whom it has put off before, so it is asked about these again.
	PutOff []string
}

// Site is a domain at one of its exchangers, asked by one route.
type Site struct {
	Domain, Exchanger string
	Route             int64
}

// Site returns whom the acceptance is of.
func (a Acceptance) Site() Site { return Site{a.Domain, a.Exchanger, a.Route} }

// Teaches reports whether the acceptance says more than the one known before: it is
// another, or much newer, or rests on more refusals while these are still counted.
func (a Acceptance) Teaches(before Acceptance) bool {
	return a.Accepts != before.Accepts || a.At.Sub(before.At) > Fresh/12 || before.Refused < Proof && a.Refused > before.Refused ||
		a.Accepts == AcceptsUnknown || min(a.TookNone, Proof) != min(before.TookNone, Proof) || min(a.listed(), mostListed) != min(before.listed(), mostListed)
}

// mostListed is up to how many answers about listed mailboxes each is worth recording.
const mostListed = 2 * Proof

func (a Acceptance) listed() int { return a.ListedTaken + a.ListedRefused }

// MadeUp is one made-up mailbox and what the host said of it.
type MadeUp struct {
	Mailbox      string
	Reply        string
	Conversation int
}

// Fresh is for how long an acceptance is remembered. It spares some made-up
// mailboxes, never all: each session is held against one.
const Fresh = 12 * time.Hour

// good reports whether the acceptance is known and fresh.
func (a *Acceptance) good(now time.Time) bool {
	return a != nil && now.Sub(a.At) < Fresh && (a.Accepts == AcceptsKnown || a.Accepts == AcceptsAny)
}

// known returns what was remembered of the site at an exchanger, nil for nothing.
func (s *site) known(exchanger string) *Acceptance {
	for i := range s.Acceptances {
		if s.Acceptances[i].Exchanger == exchanger {
			return &s.Acceptances[i]
		}
	}
	return nil
}

// acceptance sums up the made-up mailboxes of the site that an exchanger answered
// about in this visit; ok is false where it was asked about none.
func (s *site) acceptance(exchanger string, route int64, now time.Time) (a Acceptance, ok bool) {
	a = Acceptance{Domain: s.Name, Exchanger: exchanger, Route: route, At: now}
	taken := 0
	before := s.known(exchanger)
	if before != nil && now.Sub(before.At) < Fresh {
		a.PutOff = slices.Clone(before.PutOff)
	}
	for _, it := range s.madeUp {
		if it.state != answered || it.exchanger != exchanger {
			continue
		}
		ok = true
		if it.void {
			continue
		}
		a.MadeUp = append(a.MadeUp, MadeUp{it.mailbox, it.asked.Reply, it.asked.Conversation})
		if it.meaning.Greylists() && !slices.Contains(a.PutOff, it.mailbox) && len(a.PutOff) < mostPutOff {
			a.PutOff = append(a.PutOff, it.mailbox)
		}
		switch {
		case it.meaning.Effect == reply.Accepted:
			taken++
		case it.saysNo():
			a.Refused++
		}
	}
	switch {
	case taken > 0 && a.Refused > 0:
		a.Accepts = AcceptsMixed
	case taken >= 2:
		a.Accepts = AcceptsAny
	case a.Refused > 0:
		a.Accepts = AcceptsKnown
	default:
		a.Accepts = AcceptsUnknown
	}
	if before != nil && now.Sub(before.At) < Fresh {
		if len(a.MadeUp) == 0 {
			a.MadeUp = before.MadeUp // a greylisting host that put them off knows them still
		}
		switch {
		case a.Accepts == AcceptsKnown && before.Accepts == AcceptsKnown:
			a.Refused += before.Refused
		case a.Accepts == AcceptsUnknown && taken == 1 && before.Accepts == AcceptsAny:
			a.Accepts = AcceptsAny // it took the others earlier
		case before.Accepts == AcceptsMixed && a.Refused < Proof:
			a.Accepts = AcceptsMixed
		}
	}
	return a, ok
}

// mostPutOff is how many made-up mailboxes of a greylisting host are remembered.
const mostPutOff = 4

// saysNo reports an answer to a made-up mailbox that sets it apart from real ones:
// a refusal for good, which of us would have met the real ones too; a yes that names
// it unknown in the same breath; a 4xx that calls it unknown, and did so in the round
// before.
func (it *item) saysNo() bool {
	switch {
	case it.meaning.Throttles():
		return false
	case it.reply.Permanent():
		return it.meaning.About != reply.Us || it.contrast
	case it.reply.Code == 250:
		return it.meaning.Effect == reply.Unclear
	}
	return it.softNo() && it.site.saidBefore(it)
}

// softNo reports a 4xx that carries a definite no about the mailbox.
func (it *item) softNo() bool {
	return it.reply.Transient() && it.meaning.About == reply.Mailbox && it.meaning.Effect == reply.Postponed
}

// saidBefore reports whether the made-up mailbox got the same reply in an earlier
// round.
func (s *site) saidBefore(it *item) bool {
	if before := s.known(it.exchanger); before != nil {
		for _, m := range before.MadeUp {
			if m.Mailbox == it.mailbox && m.Reply == it.asked.Reply {
				return true
			}
		}
	}
	return false
}

// invent returns one more made-up mailbox of the site. Those of an earlier round
// come first: a greylisting host lets in only whom it has put off before.
func (s *site) invent(exchanger string) *item {
	mailbox := madeUpLocal() + "@" + s.Name
	asked := 0
	for _, it := range s.madeUp {
		if it.exchanger == exchanger || it.exchanger == "" {
			asked++
		}
	}
	if earlier := s.madeUpBefore(exchanger); asked < len(earlier) {
		mailbox = earlier[asked]
	}
	it := &item{site: s, kind: madeUp, mailbox: mailbox}
	s.madeUp = append(s.madeUp, it)
	return it
}

// madeUpBefore returns the made-up mailboxes of earlier rounds that an exchanger is asked
// about again: those it put off, and those about which it said nothing that counts.
func (s *site) madeUpBefore(exchanger string) (mailboxes []string) {
	before := s.known(exchanger)
	if before == nil {
		return nil
	}
	mailboxes = slices.Clone(before.PutOff)
	if before.Accepts == AcceptsUnknown {
		for _, m := range before.MadeUp {
			if !slices.Contains(mailboxes, m.Mailbox) {
				mailboxes = append(mailboxes, m.Mailbox)
			}
		}
	}
	return mailboxes
}

var (
	onsets = strings.Fields("b br c d dr f g h j k l m n p r s st t th tr v w")
	vowels = strings.Fields("a a e e i o u ai ea")
	codas  = strings.Fields("l m n nd r rn s t ld lf rd ck")
)

// madeUpLocal invents a local part of the shape that people use, so that no
// filter for odd names sees it. Its 10^11 and more forms make a hit on a real
// mailbox as good as impossible.
func madeUpLocal() string {
	syllable := func() string { return pick(onsets) + pick(vowels) }
	first := syllable() + syllable() + pick(codas)
	last := syllable() + syllable() + syllable() + pick(codas)
	switch rand.IntN(3) {
	case 0:
		return first + "." + last
	case 1:
		return first + last + fmt.Sprint(rand.IntN(90)+10)
	}
	return first[:1] + "." + last + fmt.Sprint(rand.IntN(90)+10)
}

func pick(list []string) string { return list[rand.IntN(len(list))] }

package probe

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"
)

// Accepts is how a domain takes mail for mailboxes that do not exist.
type Accepts string

// The manners.
const (
	AcceptsKnown Accepts = "known"   // refuses what does not exist: its yes counts
	AcceptsAny   Accepts = "any"     // catch-all
	AcceptsSome  Accepts = "some"    // now so, now so: its yes proves nothing
	AcceptsOpen  Accepts = "unknown" // gave no answer about made-up mailboxes
)

// Sentence says what the manner means for the domain's mailboxes.
func (a Accepts) Sentence() string {
	return map[Accepts]string{
		AcceptsKnown: "It refuses made-up mailboxes, so a yes of it counts.",
		AcceptsAny:   "It takes mail for mailboxes that do not exist, so its yes proves nothing.",
		AcceptsSome:  "It takes some mailboxes that do not exist and refuses others, so neither its yes nor its no proves anything.",
		AcceptsOpen:  "It gave no answer about them that tells, so its yes would prove nothing yet.",
	}[a]
}

// Manner is what a domain's exchangers did with made-up mailboxes.
type Manner struct {
	Accepts Accepts   `json:"accepts"`
	At      time.Time `json:"at"`
	// Exchanger is the host that said so: another one of the same domain may
	// do otherwise.
	Exchanger string   `json:"exchanger,omitempty"`
	MadeUp    []MadeUp `json:"madeUp,omitempty"`
	// Took tells that the host took a real mailbox meanwhile: so it does not
	// refuse everybody.
	Took bool `json:"took,omitempty"`
	// Reused tells a manner known from before this parcel.
	Reused bool `json:"reused,omitempty"`
}

// Fresh is how long a manner is taken for granted.
const Fresh = 12 * time.Hour

// Good tells whether the manner spares asking about made-up mailboxes.
func (m *Manner) Good(now time.Time) bool {
	return m != nil && now.Sub(m.At) < Fresh && (m.Accepts == AcceptsKnown || m.Accepts == AcceptsAny)
}

// MadeUp is one made-up mailbox and what the host said of it.
type MadeUp struct {
	Mailbox      string `json:"mailbox"`
	Reply        string `json:"reply,omitempty"`
	Conversation int    `json:"conversation"`
}

// Told gives the made-up mailboxes whose answers tell something: a yes or a
// definite no.
func (m *Manner) Told() (told []MadeUp) {
	for _, u := range m.MadeUp {
		if strings.HasPrefix(u.Reply, "2") || strings.HasPrefix(u.Reply, "5") {
			told = append(told, u)
		}
	}
	return told
}

// madeUpPerDomain is how many made-up mailboxes a domain is asked about.
const madeUpPerDomain = 2

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

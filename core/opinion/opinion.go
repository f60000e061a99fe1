// Package opinion holds what somebody else's check found beside what ours found. Theirs is words in a
// column of a list, in any vocabulary; what each word means in our findings is said once.
package opinion

import (
	"fmt"
	"strings"

	"varnet/core/finding"
	"varnet/core/say"
)

// Means tells what the words of a check mean, by the words in lower case; "" is not a finding: the word
// says nothing of the mailbox.
type Means map[string]finding.Finding

// Word is a word as it is looked up.
func Word(cell string) string { return strings.ToLower(strings.Join(strings.Fields(cell), " ")) }

// Of returns what a cell means; known is false for a word of which nobody has said it.
func (m Means) Of(cell string) (f finding.Finding, known bool) {
	f, known = m[Word(cell)]
	return f, known
}

// guesses are parts of plain words that tell a finding, in the order in which they are looked for.
var guesses = []struct {
	part string
	finding.Finding
}{
	{"undeliver", finding.Undeliverable}, {"not deliver", finding.Undeliverable}, {"invalid", finding.Undeliverable}, {"not valid", finding.Undeliverable}, {"bounce", finding.Undeliverable},
	{"reject", finding.Undeliverable}, {"does not exist", finding.Undeliverable}, {"nonexist", finding.Undeliverable}, {"dead", finding.Undeliverable}, {"bad", finding.Undeliverable}, {"false", finding.Undeliverable},
	{"catch", finding.CatchAll}, {"accept all", finding.CatchAll}, {"accepts all", finding.CatchAll}, {"takes all", finding.CatchAll},
	{"unknown", finding.Undecided}, {"undecided", finding.Undecided}, {"unsure", finding.Undecided}, {"timeout", finding.Undecided}, {"unclear", finding.Undecided}, {"not checked", finding.Undecided},
	{"deliver", finding.Deliverable}, {"valid", finding.Deliverable}, {"ok", finding.Deliverable}, {"good", finding.Deliverable}, {"exists", finding.Deliverable}, {"safe", finding.Deliverable}, {"true", finding.Deliverable},
}

// Guess suggests what a word means; ok is false where nothing in it tells.
func Guess(word string) (f finding.Finding, ok bool) {
	word = Word(strings.NewReplacer("-", " ", "_", " ").Replace(word))
	for _, g := range guesses {
		if g.part == "ok" && word != "ok" {
			continue
		}
		if strings.Contains(word, g.part) {
			return g.Finding, true
		}
	}
	return "", false
}

// Matrix counts rows by what the other check found and what ours did; "" stands for nothing.
type Matrix map[[2]finding.Finding]int64

// Add counts rows.
func (m Matrix) Add(theirs, ours finding.Finding, rows int64) {
	m[[2]finding.Finding{theirs, ours}] += rows
}

// claim is what a finding says of a mailbox: there, not there, or neither.
func claim(f finding.Finding) int {
	switch f {
	case finding.Deliverable:
		return 1
	case finding.Undeliverable:
		return -1
	}
	return 0
}

// Contradicts reports whether two findings cannot both be right: one says that the mailbox is there,
// the other that it is not.
func Contradicts(theirs, ours finding.Finding) bool { return claim(theirs)*claim(ours) < 0 }

// Differs reports whether two findings are different, where both checks found something.
func Differs(theirs, ours finding.Finding) bool { return theirs != "" && ours != "" && theirs != ours }

// Sentence says how far both agree, of the rows that both looked at.
func (m Matrix) Sentence(name string) string {
	var both, same, contradict, none int64
	for k, n := range m {
		switch {
		case k[0] == "" || k[1] == "":
			none += n
			continue
		case k[0] == k[1]:
			same += n
		case Contradicts(k[0], k[1]):
			contradict += n
		}
		both += n
	}
	if both == 0 {
		return fmt.Sprintf("No row has a finding of both %s and a run.", name)
	}
	said := fmt.Sprintf("Of %s that both looked at, %s and Varnet agree on %s, and contradict each other on %s.", say.Rows(both), name, say.Number(same), say.Number(contradict))
	if none > 0 {
		said += fmt.Sprintf(" On %s only one of them or neither found something.", say.Rows(none))
	}
	return said
}

// Judged is how often a check was right, of the addresses that a message was sent to and that it had
// called deliverable or undeliverable.
type Judged struct{ GoodArrived, GoodBounced, BadArrived, BadBounced int64 }

// Judge counts what became of a message.
func (j *Judged) Judge(f finding.Finding, arrived bool) {
	switch c := claim(f); {
	case c > 0 && arrived:
		j.GoodArrived++
	case c > 0:
		j.GoodBounced++
	case c < 0 && arrived:
		j.BadArrived++
	case c < 0:
		j.BadBounced++
	}
}

// Of is how many it said something of, Right of how many that was right.
func (j Judged) Of() int64    { return j.GoodArrived + j.GoodBounced + j.BadArrived + j.BadBounced }
func (j Judged) Right() int64 { return j.GoodArrived + j.BadBounced }

// Sentence says how often it was right.
func (j Judged) Sentence(name string) string {
	if j.Of() == 0 {
		return fmt.Sprintf("No message whose outcome is known went to an address that %s had called deliverable or undeliverable.", name)
	}
	return fmt.Sprintf("%s was right on %s of the %s that it had called deliverable or undeliverable and a message was sent to: %s that it called deliverable bounced, and %s that it called undeliverable took the message.",
		name, say.Number(j.Right()), say.Addresses(j.Of()), say.Number(j.GoodBounced), say.Number(j.BadArrived))
}

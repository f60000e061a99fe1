package bounce

import (
	"cmp"
	"fmt"
	"slices"

	"varnet/core/bounce"
	"varnet/core/finding"
	"varnet/core/say"
	"varnet/internal/store"
)

// Counts is how many letters came to which outcome.
type Counts struct{ Bounced, Passing, Delayed, Complained, NoBounce, Open int64 }

// Letters returns how many there are.
func (c Counts) Letters() int64 {
	return c.Bounced + c.Passing + c.Delayed + c.Complained + c.NoBounce + c.Open
}

func (c *Counts) add(o store.OutcomeCount) {
	switch {
	case o.Outcome == bounce.Bounced && o.Permanent:
		c.Bounced += o.Letters
	case o.Outcome == bounce.Bounced:
		c.Passing += o.Letters
	case o.Outcome == bounce.Late:
		c.Delayed += o.Letters
	case o.Outcome == bounce.Complained:
		c.Complained += o.Letters
	case o.Outcome == bounce.NoBounce:
		c.NoBounce += o.Letters
	default:
		c.Open += o.Letters
	}
}

// Found is what became of letters to the addresses of one finding and cause.
type Found struct {
	Finding finding.Finding // "" where nothing had been found
	Cause   finding.Cause
	Odds    float64 // the mean of those stated
	Counts
}

// Total is what became of letters, of all and by what had been found of their addresses.
type Total struct {
	All   Counts
	Found []Found
}

// Sum sums up what became of letters.
func Sum(counts []store.OutcomeCount, verdicts map[int32]finding.Verdict) (t Total) {
	type key struct {
		finding finding.Finding
		cause   finding.Cause
	}
	at, odds := map[key]int{}, map[key]float64{}
	for _, c := range counts {
		t.All.add(c)
		v := verdicts[c.Said]
		k := key{v.Finding, v.Cause}
		if _, ok := at[k]; !ok {
			at[k] = len(t.Found)
			t.Found = append(t.Found, Found{Finding: v.Finding, Cause: v.Cause})
		}
		t.Found[at[k]].add(c)
		odds[k] += v.Odds * float64(c.Letters)
	}
	for i, f := range t.Found {
		t.Found[i].Odds = odds[key{f.Finding, f.Cause}] / float64(max(1, f.Letters()))
	}
	slices.SortFunc(t.Found, func(a, b Found) int {
		return cmp.Or(cmp.Compare(slices.Index(finding.Findings(), a.Finding), slices.Index(finding.Findings(), b.Finding)), cmp.Compare(b.Letters(), a.Letters()))
	})
	return t
}

// Sentence says what became of the letters, each number with its whole.
func (t Total) Sentence() string {
	letters := t.All.Letters()
	if letters == 0 {
		return "No mailing is registered yet."
	}
	return fmt.Sprintf("Of %s sent, %s.", say.Plural(letters, "letter", "letters"), t.All.sentence(letters))
}

func (c Counts) sentence(of int64) string {
	var parts []string
	add := func(n int64, one, many string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%s (%s)", say.Plural(n, one, many), share(n, of)))
		}
	}
	add(c.Bounced, "bounced for good", "bounced for good")
	add(c.Passing, "bounced for a reason that passes", "bounced for a reason that passes")
	add(c.Delayed, "was delayed", "were delayed")
	add(c.Complained, "was complained about", "were complained about")
	add(c.NoBounce, "did not come back", "did not come back")
	add(c.Open, "is still watched", "are still watched")
	return say.And(parts...)
}

// share is a share of the whole that the sentence names.
func share(n, of int64) string {
	p := 100 * float64(n) / float64(of)
	if p > 0 && p < 10 {
		return fmt.Sprintf("%.1f %%", p)
	}
	return fmt.Sprintf("%.0f %%", p)
}

// Says says what became of a mailing.
func (t Total) Says(m store.Mailing) string {
	switch {
	case m.State == store.MailingPreparing:
		return cmp.Or(m.Says, "It is being written down to whom it went.")
	case m.State == store.MailingExported:
		return fmt.Sprintf("It goes to %s. The watch begins when it is sent, or with the first message that comes back.", say.Plural(m.Letters, "address", "addresses"))
	case m.State == store.MailingSending:
		return cmp.Or(m.Says, "Its letters leave at the pace of the operators they go to.")
	case m.Says != "" && t.All.Letters() > 0:
		return t.Sentence() + " " + m.Says
	case m.Says != "":
		return m.Says
	case t.All.Letters() == 0:
		return "It went to nobody."
	}
	return t.Sentence()
}

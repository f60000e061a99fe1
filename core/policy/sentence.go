package policy

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"varnet/core/say"
)

// Count is how many rows share a ruling.
type Count struct {
	Decision Decision
	Code     ReasonCode
	Reason   string
	Rows     int64
}

// Tally counts rows by ruling.
type Tally map[Ruling]int64

// Counts lists the tally: keep, hold, drop, the largest count first in each.
func (t Tally) Counts() []Count {
	var out []Count
	for r, n := range t {
		if n > 0 {
			out = append(out, Count{r.Decision, r.Code, r.Reason, n})
		}
	}
	order := Decisions()
	slices.SortFunc(out, func(a, b Count) int {
		return cmp.Or(slices.Index(order, a.Decision)-slices.Index(order, b.Decision),
			cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Reason, b.Reason))
	})
	return out
}

// Rows adds up the rows of one decision.
func (t Tally) Rows(d Decision) (n int64) {
	for r, rows := range t {
		if r.Decision == d {
			n += rows
		}
	}
	return n
}

// Total adds up all rows.
func (t Tally) Total() (n int64) {
	for _, rows := range t {
		n += rows
	}
	return n
}

// Sentence says how many rows will be exported and what stays behind for
// which reason, before the file is made.
func (t Tally) Sentence(taken Decision) string {
	total, rows := t.Total(), t.Rows(taken)
	verb := map[Decision]string{Keep: "kept", Hold: "held", Drop: "dropped"}[taken]
	s := fmt.Sprintf("%s of %s will be %s.", say.Number(rows), say.Rows(total), verb)
	var left []string
	for _, c := range t.Counts() {
		if c.Decision != taken {
			left = append(left, say.Number(c.Rows)+" "+c.Reason)
		}
	}
	if len(left) > 0 {
		s += " Left out: " + strings.Join(left, ", ") + "."
	}
	return s
}

// Says says the policy in sentences, one for each decision after the other.
func (p Policy) Says() (sentences []string) {
	verb := func(d Decision) string {
		if len(sentences) > 0 {
			return "Of the rest " + string(d)
		}
		return strings.ToUpper(string(d)[:1]) + string(d)[1:]
	}
	last := ""
	for i := 0; i < len(p.Rules); {
		d, whom := p.Rules[i].Do, []string{}
		for ; i < len(p.Rules) && p.Rules[i].Do == d; i++ {
			last = p.Rules[i].reason()
			whom = append(whom, last)
		}
		between := ", "
		if strings.Contains(strings.Join(whom, ""), between) {
			between = "; "
		}
		sentences = append(sentences, verb(d)+": "+strings.Join(whom, between)+".")
	}
	if last != "all others" {
		sentences = append(sentences, verb(p.otherwise())+": whatever is left.")
	}
	return sentences
}

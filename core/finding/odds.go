package finding

import (
	_ "embed"
	"math"
	"strconv"
	"strings"
)

// The odds are data with their source (data/odds.tsv): each cause has the share of
// addresses that a message really reached, and some traits multiply it. Nothing of it
// was measured in the world yet; the evidence says so. script/bench trust holds them
// against a practice world: in no tenth of the scale may the stated odds be off by 5
// points or more.
//
//go:embed data/odds.tsv
var oddsFile string

// Basis says what a figure of the odds rests on.
type Basis string

// The bases.
const (
	Simulated Basis = "simulated" // counted on the practice internet
	Judged    Basis = "judged"    // an assumption
)

// Sentence says what the basis means.
func (b Basis) Sentence() string {
	if b == Judged {
		return "assumed; nothing measured yet"
	}
	return "assumed from simulations; nothing measured yet"
}

type odds struct {
	times float64
	basis Basis
}

// oddsOf holds the odds of causes and what traits multiply them by.
var oddsOf = func() map[string]odds {
	table := map[string]odds{}
	for line := range strings.SplitSeq(strings.TrimSpace(oddsFile), "\n") {
		if f := strings.Split(line, "\t"); line[0] != '#' && len(f) == 3 {
			times, err := strconv.ParseFloat(f[1], 64)
			if err != nil {
				panic(err) // embedded at build time
			}
			table[f[0]] = odds{times, Basis(f[2])}
		}
	}
	return table
}()

// Factor is one thing that the odds were made of.
type Factor struct {
	What  string
	Times float64
	Basis string
}

// Factors returns what the odds of a verdict are made of, in order; their product
// is the odds.
func Factors(f Finding, c Cause, t Traits) []Factor {
	base := oddsOf[string(c)] // none for what is undeliverable
	first := Factor{What: byCode[c].Title, Times: base.times}
	if base.times > 0 {
		first.Basis = base.basis.Sentence()
	}
	out := []Factor{first}
	if f == Deliverable || base.times == 0 {
		return out
	}
	for _, i := range traits {
		if m, ok := oddsOf[string(i.Code)]; ok && t.Has(i.Code) {
			out = append(out, Factor{What: i.Title, Times: m.times, Basis: m.basis.Sentence()})
		}
	}
	return out
}

// Odds estimates the probability, 0 to 1 in steps of 0.01, that a message sent
// now would be delivered.
func Odds(f Finding, c Cause, t Traits) float64 {
	o := 1.0
	for _, x := range Factors(f, c, t) {
		o *= x.Times
	}
	return math.Round(o*100) / 100
}

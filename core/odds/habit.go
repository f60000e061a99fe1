package odds

import (
	"math"

	"varnet/core/naming"
)

// patterns and shapes are all ways in which an address is made; "" is by no pattern that is known.
var (
	patterns = append(naming.Patterns(), "")
	shapes   = naming.Shapes()
)

// A domain has one habit, two that share its mailboxes, or none, so that its mailboxes are made as
// addresses are anywhere; astray is the share of mailboxes that do not follow a habit, and loose how
// many addresses it takes until a domain is believed to be other than that.
const (
	oneHabit  = 0.6
	twoHabits = 0.2
	noHabit   = 0.2
	astray    = 0.1
	loose     = 30
)

// supposed is how often each way is supposed to be among addresses without a mailbox, as if so many had
// bounced: an assumption, of which soon nothing is left.
func supposed(way string) float64 {
	switch way {
	case string(naming.FirstDotLast), string(naming.TwoWords):
		return 8
	case string(naming.OneWord):
		return 10
	case string(naming.InitialLast), string(naming.FirstAlone), "":
		return 4
	}
	return 1
}

// mostSign is how strong a sign may be, in log odds.
const mostSign = 2.2

// deconvolved is how often the mailboxes in a list are told from the addresses without one.
const deconvolved = 8

// beyond is how much likelier a mailbox is for the way in which its address is made, in log odds,
// by Bayes: the share of that way among the mailboxes of the domain to its share among addresses
// without one, which is the usual. Counts are of addresses of the domain, of which a share has
// bounced; among: the address is one of them, and does not count. It returns with it how many
// others there are of that way, and at all.
func beyond[K ~string](counts map[K]int, way K, among bool, usual map[K]float64, kinds []K, bounced float64) (x float64, n, of int) {
	h := habits{counts: make([]float64, len(kinds)), usual: make([]float64, len(kinds)), bounced: bounced}
	all, at := 0.0, 0
	for i, k := range kinds {
		h.counts[i], h.usual[i] = float64(counts[k]), usual[k]+supposed(string(k))
		if k == way {
			at = i
			if among {
				h.counts[i] = max(0, h.counts[i]-1)
			}
		}
		of += int(h.counts[i])
		all += h.usual[i]
	}
	for i := range kinds {
		h.usual[i] /= all
	}
	ratio := h.shares(h.expected(float64(of)))[at] / h.usual[at]
	return math.Log(min(max(ratio, math.Exp(-mostSign)), math.Exp(mostSign))), int(h.counts[at]), of
}

// habits finds out which a domain has.
type habits struct {
	counts, usual []float64 // by way
	bounced       float64
}

// expected returns the share of each way among the mailboxes, by what habits the domain may have
// and how likely the counts are with each.
func (h habits) expected(of float64) []float64 {
	// Beside what is usual, the likelihood of a habit is that of those that do not follow it, and
	// of those that do.
	others := h.bounced + (1-h.bounced)*astray
	rest := math.Log(others)
	follow := func(i int, share float64) float64 {
		return h.counts[i] * (math.Log(others+(1-h.bounced)*(1-astray)*share/h.usual[i]) - rest)
	}
	whole, half := make([]float64, len(h.counts)), make([]float64, len(h.counts))
	for i := range h.counts {
		whole[i], half[i] = follow(i, 1), follow(i, 0.5)
	}
	n := float64(len(h.counts))
	type hypothesis struct {
		of         [2]int
		likelihood float64
	}
	all := []hypothesis{{[2]int{-1, -1}, math.Log(noHabit)}}
	for i := range h.counts {
		all = append(all, hypothesis{[2]int{i, i}, math.Log(oneHabit/n) + of*rest + whole[i]})
		for j := range i {
			all = append(all, hypothesis{[2]int{i, j}, math.Log(twoHabits/(n*(n-1)/2)) + of*rest + half[i] + half[j]})
		}
	}
	most, sum := math.Inf(-1), 0.0
	for _, one := range all {
		most = max(most, one.likelihood)
	}
	shares, usual := make([]float64, len(h.counts)), 0.0
	for _, one := range all {
		w := math.Exp(one.likelihood - most)
		sum += w
		if one.of[0] < 0 {
			usual += w
			continue
		}
		usual += w * astray
		shares[one.of[0]] += w * (1 - astray) / 2
		shares[one.of[1]] += w * (1 - astray) / 2
	}
	for i := range shares {
		shares[i] = (shares[i] + usual*h.usual[i]) / sum
	}
	return shares
}

// shares returns the share of each way among the mailboxes: what is expected, mended by the counts
// themselves the more of them there are. Which of the addresses have a mailbox is told in turns with
// it (expectation and maximisation).
func (h habits) shares(expected []float64) []float64 {
	out := expected
	for range deconvolved {
		next, sum := make([]float64, len(out)), float64(loose)
		for i, share := range out {
			there := (1 - h.bounced) * share
			there *= h.counts[i] / (there + h.bounced*h.usual[i])
			next[i] = there + loose*expected[i]
			sum += there
		}
		for i := range next {
			next[i] /= sum
		}
		out = next
	}
	return out
}

package catalogue

import (
	"slices"
	"strings"

	"golang.org/x/net/publicsuffix"

	"varnet/core/finding"
)

// Frequent is how many addresses of a list make a domain one that others of the
// list may be misspellings of.
const Frequent = 20

// Beside returns the catalogue with a list's own frequent domains among what
// typos are measured against.
func (c *Catalogue) Beside(frequent []string) *Catalogue {
	with := *c
	with.targets = append(slices.Clone(c.targets), frequent...)
	return &with
}

// DomainTraits returns the traits that a domain shows among the others of its list.
func (c *Catalogue) DomainTraits(domain string, exchangers []string) finding.Traits {
	t := c.ExchangerTraits(exchangers)
	if c.Suggest(domain) != "" {
		t = t.With(finding.TraitTypo)
	}
	return t
}

// Served returns the traits of a domain that is served by some exchangers: without a typo
// where it names hosts of its own, for then it is only near another, unless it is listed.
func (c *Catalogue) Served(domain string, exchangers []string, t finding.Traits) finding.Traits {
	if c.trapTypos[domain] || len(exchangers) == 0 || exchangers[0] == domain {
		return t
	}
	return slices.DeleteFunc(slices.Clone(t), func(x finding.Trait) bool { return x == finding.TraitTypo })
}

// Suggest returns the well-known or free-mail domain, or frequent domain of the list,
// that the domain is one slip of the keyboard away from, "" where there is none: a
// letter too many, too few, wrong or swapped, an ending written twice, or the country of
// another. It is only ever a suggestion; nothing is changed by itself.
func (c *Catalogue) Suggest(domain string) string {
	if c.isFreeMail(domain) || slices.Contains(c.targets, domain) {
		return ""
	}
	for _, t := range wellKnown {
		if doubledEnding(domain, t) || otherCountry(domain, t) {
			return t
		}
	}
	for _, t := range wellKnown {
		if len(t) >= leastKnown && slip(domain, t, true) {
			return t
		}
	}
	best := ""
	for _, t := range c.targets {
		if len(t) >= leastTarget && slip(domain, t, false) && (best == "" || t < best) {
			best = t
		}
	}
	return best
}

// How long a name must be to be looked for: too many short names are real domains of
// their own.
const (
	leastKnown  = 6
	leastTarget = 8
)

var wellKnown = loadOrdered("well-known")

// doubledEnding reports an ending that is written twice: gmail.com.com, gmail.comcom.
func doubledEnding(a, b string) bool {
	ending := b[strings.IndexByte(b, '.'):]
	return a == b+ending || a == b+ending[1:]
}

// otherCountry reports the name of a service under an ending that it does not have:
// gmail.de, gmail.co.uk, icloud.fr.
func otherCountry(a, b string) bool {
	nameA, endA, _ := strings.Cut(a, ".")
	nameB, endB, _ := strings.Cut(b, ".")
	return nameA == nameB && len(nameB) >= 5 && endB == "com" && country(endA)
}

// country reports an ending that stands for a country: de, co.uk, com.br.
func country(ending string) bool {
	place := ending[strings.LastIndexByte(ending, '.')+1:]
	suffix, registered := publicsuffix.PublicSuffix("x." + ending)
	return len(place) == 2 && registered && suffix == ending && strings.Count(ending, ".") <= 1
}

// slip reports whether a is b with one letter too many, too few, wrong (by a
// neighbouring key or a doubled letter) or two letters swapped. People seldom miss the
// first letter; that counts only for names that everybody knows.
func slip(a, b string, first bool) bool {
	if len(a) < len(b)-1 || len(a) > len(b)+1 || a == b {
		return false
	}
	i := 0
	for i < len(a) && i < len(b) && a[i] == b[i] {
		i++
	}
	switch {
	case i == 0 && !first:
		return false
	case len(a) == len(b)+1:
		return a[i+1:] == b[i:]
	case len(a) == len(b)-1:
		return a[i:] == b[i+1:]
	case i+1 < len(a) && a[i] == b[i+1] && a[i+1] == b[i]:
		return a[i+2:] == b[i+2:]
	}
	return i < len(a) && a[i+1:] == b[i+1:] && neighbours(a[i], b[i])
}

// rows are the rows of a keyboard; a key's neighbours stand beside it or in
// the next row above or below.
var rows = []string{"1234567890-", "qwertyuiop", "asdfghjkl", "zxcvbnm,."}

func neighbours(a, b byte) bool {
	x, y := keys[a], keys[b]
	return x.row >= 0 && y.row >= 0 && abs(x.row-y.row) <= 1 && abs(x.col-y.col) <= 1
}

// key is where a character stands on the keyboard; the row of one that does not is far
// from all others.
type key struct{ row, col int }

var keys = func() (table [256]key) {
	for c := range table {
		table[c].row = -10
	}
	for r, row := range rows {
		for i := range len(row) {
			table[row[i]] = key{r, i}
		}
	}
	return table
}()

func abs(n int) int { return max(n, -n) }

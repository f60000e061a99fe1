package catalogue

import (
	"slices"
	"strings"

	"varnet/core/finding"
)

// Frequent is how many addresses of a list make a domain one that others of the
// list may be misspellings of.
const Frequent = 20

// Beside gives the catalogue with a list's own frequent domains among what
// typos are measured against.
func (c *Catalogue) Beside(frequent []string) *Catalogue {
	with := *c
	with.targets = append(slices.Clone(c.targets), frequent...)
	return &with
}

// DomainTraits gives the traits that a domain shows among the others of its
// list.
func (c *Catalogue) DomainTraits(domain string, exchangers []string) finding.Traits {
	t := c.ExchangerTraits(exchangers)
	if c.Suggest(domain) != "" {
		t = t.With(finding.TraitTypo)
	}
	return t
}

// Suggest gives the catalogued free-mail domain, or frequent domain of the
// list, that the domain is one slip of the keyboard away from, "" where there
// is none. It is only ever a
// suggestion; nothing is changed by itself.
func (c *Catalogue) Suggest(domain string) string {
	if c.freeMail[domain] || slices.Contains(c.targets, domain) {
		return ""
	}
	best := ""
	for _, t := range c.targets {
		if slip(domain, t) && (best == "" || t < best) {
			best = t
		}
	}
	return best
}

// slip tells whether a is b with one letter too many, too few, wrong (by a
// neighbouring key or a doubled letter) or two letters swapped. Short names
// are left alone, for too many of them are real domains of their own.
func slip(a, b string) bool {
	if len(b) < 8 || len(a) < len(b)-1 || len(a) > len(b)+1 {
		return false
	}
	i := 0
	for i < len(a) && i < len(b) && a[i] == b[i] {
		i++
	}
	switch {
	case i == 0:
		return false // people seldom miss the first letter
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
	ra, ca := place(a)
	rb, cb := place(b)
	return ra >= 0 && rb >= 0 && abs(ra-rb) <= 1 && abs(ca-cb) <= 1
}

func place(c byte) (row, col int) {
	for r, keys := range rows {
		if i := strings.IndexByte(keys, c); i >= 0 {
			return r, i
		}
	}
	return -10, 0
}

func abs(n int) int { return max(n, -n) }

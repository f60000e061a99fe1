// Package catalogue knows the names that tell what an address is like: role
// names, disposable and free-mail domains, trap patterns and the domains that
// typos are measured against. The names are data files beside the code, one a
// line, "#" begins a comment.
package catalogue

import (
	"embed"
	"strings"

	"varnet/core/address"
	"varnet/core/finding"
)

//go:embed data
var files embed.FS

// Catalogue answers what an address is like.
type Catalogue struct {
	roles, noReplies, disposable, freeMail, trapNames, trapDomains set
	targets                                                        []string
}

type set map[string]bool

// Default is the catalogue that ships with Varnet.
func Default() *Catalogue {
	c := &Catalogue{
		roles: load("roles"), noReplies: load("no-replies"), disposable: load("disposable"),
		freeMail: load("free-mail"), trapNames: load("trap-names"), trapDomains: load("trap-domains"),
	}
	for d := range c.freeMail {
		c.targets = append(c.targets, d)
	}
	return c
}

func load(name string) set {
	text, err := files.ReadFile("data/" + name + ".txt")
	if err != nil {
		panic(err) // embedded at build time
	}
	s := set{}
	for line := range strings.SplitSeq(string(text), "\n") {
		line, _, _ = strings.Cut(line, "#")
		for _, word := range strings.Fields(line) {
			s[word] = true
		}
	}
	return s
}

// Traits gives the traits that the text of the address alone shows.
func (c *Catalogue) Traits(a address.Address) finding.Traits {
	var t finding.Traits
	add := func(is bool, x finding.Trait) {
		if is {
			t = t.With(x)
		}
	}
	base := a.Base()
	plain := strings.NewReplacer(".", "", "-", "", "_", "").Replace(base)
	add(c.roles[base] || c.roles[plain], finding.TraitRole)
	add(c.noReplies[plain], finding.TraitNoReply)
	add(c.trapNames[plain], finding.TraitTrapPattern)
	add(c.trapDomains[a.Domain], finding.TraitTrapListed)
	add(inOrUnder(c.disposable, a.Domain), finding.TraitDisposable)
	add(c.freeMail[a.Domain], finding.TraitFreeMail)
	add(a.Tag() != "", finding.TraitTagged)
	add(a.International() || strings.Contains(a.Domain, "xn--"), finding.TraitInternational)
	add(c.Suggest(a.Domain) != "", finding.TraitTypo)
	return t
}

// inOrUnder tells whether the domain or one above it is in the set.
func inOrUnder(s set, domain string) bool {
	for domain != "" {
		if s[domain] {
			return true
		}
		_, domain, _ = strings.Cut(domain, ".")
	}
	return false
}

// Package catalogue knows the names that tell what an address is like: role
// names, disposable and free-mail domains, trap patterns and the domains that
// typos are measured against. The names are data files beside the code, one a
// line, "#" begins a comment.
package catalogue

import (
	"bufio"
	"embed"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"varnet/core/address"
	"varnet/core/finding"
)

//go:embed data
var files embed.FS

// Catalogue answers what an address is like.
type Catalogue struct {
	roles, noReplies, disposable, freeMail, trapNames, trapDomains, trapTypos set
	targets                                                                   []string
	// except are the workspace's exceptions: what is inferred must not bring them back.
	except map[Entry]bool
}

type set map[string]bool

// Kind is one of the lists that make up a catalogue.
type Kind string

// The kinds.
const (
	Roles       Kind = "role"
	NoReplies   Kind = "no-reply"
	Disposable  Kind = "disposable"
	FreeMail    Kind = "free-mail"
	TrapNames   Kind = "trap-name"
	TrapDomains Kind = "trap-domain"
	TrapTypos   Kind = "trap-typo-domain"
)

// Kinds lists the kinds.
func Kinds() []Kind {
	return []Kind{Roles, NoReplies, Disposable, FreeMail, TrapNames, TrapDomains, TrapTypos}
}

// ByDomain tells a kind whose entries are domains; those of the others are
// names before the @.
func (k Kind) ByDomain() bool {
	return k == Disposable || k == FreeMail || k == TrapDomains || k == TrapTypos
}

// Entry is a workspace's own addition to a kind, or an exception from it.
type Entry struct {
	Kind   Kind
	Name   string
	Except bool
}

var shipped = map[Kind]set{Roles: load("roles"), NoReplies: load("no-replies"), Disposable: load("disposable"),
	FreeMail: load("free-mail"), TrapNames: load("trap-names"), TrapDomains: load("trap-domains"),
	TrapTypos: load("trap-typo-domains")}

// Default is the catalogue that ships with Varnet. It is shared and never
// changes.
func Default() *Catalogue { return standard }

var standard = lay(nil)

// With is the shipped catalogue with a workspace's own entries laid over it.
func With(own []Entry) *Catalogue {
	if len(own) == 0 {
		return standard
	}
	return lay(own)
}

func lay(own []Entry) *Catalogue {
	sets := map[Kind]set{}
	for k, s := range shipped {
		sets[k] = maps.Clone(s)
	}
	for _, e := range own {
		if e.Except {
			delete(sets[e.Kind], e.Name)
		} else if s, ok := sets[e.Kind]; ok {
			s[e.Name] = true
		}
	}
	c := &Catalogue{roles: sets[Roles], noReplies: sets[NoReplies], disposable: sets[Disposable],
		freeMail: sets[FreeMail], trapNames: sets[TrapNames], trapDomains: sets[TrapDomains],
		trapTypos: sets[TrapTypos], except: map[Entry]bool{}}
	for _, e := range own {
		if e.Except {
			c.except[e] = true
		}
	}
	for d := range c.freeMail {
		c.targets = append(c.targets, d)
	}
	return c
}

// inOrder are the shipped entries of each kind by name.
var inOrder = func() map[Kind][]string {
	out := map[Kind][]string{}
	for k, s := range shipped {
		out[k] = slices.Sorted(maps.Keys(s))
	}
	return out
}()

// Shipped returns at most so many shipped entries of a kind that have a text in their name,
// those after a name, in order.
func Shipped(k Kind, text, after string, most int) []string {
	all := inOrder[k]
	from, found := slices.BinarySearch(all, after)
	if found {
		from++
	}
	out := []string{}
	for _, name := range all[from:] {
		if len(out) == most {
			break
		}
		if strings.Contains(name, text) {
			out = append(out, name)
		}
	}
	return out
}

// Has reports whether a name or domain, as Normal gives it, stands in a kind.
func (c *Catalogue) Has(k Kind, name string) bool {
	return map[Kind]set{Roles: c.roles, NoReplies: c.noReplies, Disposable: c.disposable, FreeMail: c.freeMail,
		TrapNames: c.trapNames, TrapDomains: c.trapDomains, TrapTypos: c.trapTypos}[k][name]
}

// Normal returns an entry as it is compared: a domain in its canonical form, a
// name in lower case without dots, hyphens and underscores where those are
// left out.
func Normal(k Kind, name string) (string, error) {
	name = strings.ToLower(strings.TrimSpace(name))
	if !k.ByDomain() {
		if name == "" || strings.ContainsAny(name, "@ \t\r\n\x00") {
			return "", fmt.Errorf("%q is not a name before an @", name)
		}
		if k != Roles {
			name = plainName(name)
		}
		return name, nil
	}
	a, err := address.Parse("x@" + strings.TrimPrefix(name, "@"))
	if err != nil {
		return "", fmt.Errorf("%q is not a domain: %w", name, err)
	}
	return a.Domain, nil
}

// ReadNames reads the entries of a kind from a list with one a line, as Normal gives them;
// "#" begins a comment. It is an error of the line where one is none, and one that there
// are more than most.
func ReadNames(in io.Reader, kind Kind, most int) (names []string, err error) {
	lines := bufio.NewScanner(in)
	for n := 1; lines.Scan(); n++ {
		text, _, _ := strings.Cut(lines.Text(), "#")
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		name, err := Normal(kind, text)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		if names = append(names, name); len(names) > most {
			return nil, fmt.Errorf("it has more than %d entries", most)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("it cannot be read to its end: %w", err)
	}
	return names, nil
}

// separators stand between the words of a name.
const separators = ".-_"

var withoutSeparators = strings.NewReplacer(".", "", "-", "", "_", "")

// plainName is a name without what separates its words.
func plainName(name string) string {
	if !strings.ContainsAny(name, separators) {
		return name
	}
	return withoutSeparators.Replace(name)
}

func load(name string) set {
	s := set{}
	for _, word := range loadOrdered(name) {
		s[word] = true
	}
	return s
}

func loadOrdered(name string) (words []string) {
	text, err := files.ReadFile("data/" + name + ".txt")
	if err != nil {
		panic(err) // embedded at build time
	}
	for line := range strings.SplitSeq(string(text), "\n") {
		if line != "" && line[0] != '#' {
			words = append(words, line)
		}
	}
	return words
}

var families = load("free-mail-families")

// isFreeMail reports a domain of a mail service: one that is catalogued, or a name of a
// family under a country's suffix.
func (c *Catalogue) isFreeMail(domain string) bool {
	if c.freeMail[domain] {
		return true
	}
	name, ending, _ := strings.Cut(domain, ".")
	return families[name] && country(ending) && !c.except[Entry{FreeMail, domain, true}]
}

// Traits returns the traits that the text of the address alone shows: those of
// its name and those of its domain.
func (c *Catalogue) Traits(a address.Address) finding.Traits {
	return c.NameTraits(a).With(c.OwnTraits(a.Domain)...)
}

// NameTraits returns the traits that the name before the @ shows.
func (c *Catalogue) NameTraits(a address.Address) finding.Traits {
	var t finding.Traits
	base := a.Base()
	plain := plainName(base)
	add := adder(&t)
	add(c.isRole(base, plain), finding.TraitRole)
	add(c.noReplies[plain], finding.TraitNoReply)
	add(c.trapNames[plain], finding.TraitTrapPattern)
	add(a.Tag() != "", finding.TraitTagged)
	add(a.International(), finding.TraitInternational)
	add(randomLooking(base), finding.TraitRandomLooking)
	return t
}

// OwnTraits returns the traits that the text of a domain shows; they are those of
// all its addresses.
func (c *Catalogue) OwnTraits(domain string) finding.Traits {
	var t finding.Traits
	add := adder(&t)
	add(c.trapDomains[domain], finding.TraitTrapListed)
	add(c.trapTypos[domain], finding.TraitTrapTypo)
	add(inOrUnder(c.disposable, domain), finding.TraitDisposable)
	add(c.isFreeMail(domain), finding.TraitFreeMail)
	add(strings.Contains(domain, "xn--"), finding.TraitInternational)
	add(c.Suggest(domain) != "", finding.TraitTypo)
	return t
}

func adder(t *finding.Traits) func(is bool, x finding.Trait) {
	return func(is bool, x finding.Trait) {
		if is {
			*t = t.With(x)
		}
	}
}

var disposableExchangers = load("disposable-exchangers")

var sameMailbox = load("same-mailbox")

// Sameness tells what the domain's operator leaves out of a local part.
func (c *Catalogue) Sameness(domain string) address.Sameness {
	return address.Sameness{Dots: sameMailbox[domain+":dots"], Tags: sameMailbox[domain+":tags"]}
}

// ExchangerTraits returns the traits that a domain's exchangers show: one whose
// every exchanger belongs to a disposable service is disposable itself,
// whatever its name.
func (c *Catalogue) ExchangerTraits(exchangers []string) (t finding.Traits) {
	for _, x := range exchangers {
		if !inOrUnder(c.disposable, x) && !inOrUnder(disposableExchangers, x) {
			return nil
		}
	}
	if len(exchangers) > 0 {
		t = t.With(finding.TraitDisposable)
	}
	return t
}

// inOrUnder reports whether the domain or one above it is in the set.
func inOrUnder(s set, domain string) bool {
	for domain != "" {
		if s[domain] {
			return true
		}
		_, domain, _ = strings.Cut(domain, ".")
	}
	return false
}

package workshop

import (
	"cmp"
	"slices"
	"strings"

	"golang.org/x/net/publicsuffix"
	"golang.org/x/text/language"
	"golang.org/x/text/language/display"

	"varnet/core/catalogue"
	"varnet/core/finding"
)

// Share is how many addresses, at how many domains, belong to something.
type Share struct {
	Name               string
	Title              string // what it is called, where that is something else
	Addresses, Domains int64
	Traits             finding.Traits
	Meant              string // the domain that may have been meant
}

// Statistics is what the domains of a list tell before any address is verified.
type Statistics struct {
	Addresses, Domains int64
	Largest            []Share
	Operators          []Share
	Unknown            int64 // addresses whose operator is not known
	Traits             []Share
	Countries          []Share
	Suspicious         []Share
}

// toldDomains is how many of each kind are told.
const toldDomains = 25

// Gathering gathers statistics, domain by domain, the largest first.
type Gathering struct {
	Catalogue *catalogue.Catalogue

	s                            Statistics
	operators, traits, countries map[string]*Share
}

// Add adds a domain with its addresses; operator is "" where it is not known.
func (g *Gathering) Add(domain string, addresses int64, operator string) {
	if g.operators == nil {
		g.operators, g.traits, g.countries = map[string]*Share{}, map[string]*Share{}, map[string]*Share{}
	}
	s := &g.s
	s.Addresses += addresses
	s.Domains++
	traits := g.Catalogue.OwnTraits(domain)
	one := Share{Name: domain, Addresses: addresses, Domains: 1, Traits: traits, Meant: g.Catalogue.Suggest(domain)}
	if len(s.Largest) < toldDomains {
		s.Largest = append(s.Largest, one)
	}
	if len(s.Suspicious) < toldDomains && slices.ContainsFunc(traits, suspicious) {
		s.Suspicious = append(s.Suspicious, one)
	}
	for _, t := range traits {
		add(g.traits, string(t), addresses)
	}
	if operator == "" {
		s.Unknown += addresses
	} else {
		add(g.operators, operator, addresses)
	}
	add(g.countries, suffix(domain), addresses)
}

func add(to map[string]*Share, name string, addresses int64) {
	if to[name] == nil {
		to[name] = &Share{Name: name}
	}
	to[name].Addresses += addresses
	to[name].Domains++
}

// suspicious are the traits of domains at which few real people are.
func suspicious(t finding.Trait) bool {
	return t == finding.TraitDisposable || t == finding.TraitTrapListed || t == finding.TraitTrapTypo || t == finding.TraitTypo
}

// suffix is the last label of a domain.
func suffix(domain string) string { return domain[strings.LastIndexByte(domain, '.')+1:] }

// Statistics are what was gathered.
func (g *Gathering) Statistics() Statistics {
	s := g.s
	s.Operators, s.Traits, s.Countries = largest(g.operators), largest(g.traits), largest(g.countries)
	for i := range s.Countries {
		s.Countries[i].Title = suffixTitle(s.Countries[i].Name)
	}
	return s
}

func largest(of map[string]*Share) []Share {
	all := make([]Share, 0, len(of))
	for _, s := range of {
		all = append(all, *s)
	}
	slices.SortFunc(all, func(a, b Share) int {
		return cmp.Or(cmp.Compare(b.Addresses, a.Addresses), cmp.Compare(a.Name, b.Name))
	})
	return all[:min(len(all), toldDomains)]
}

// suffixTitle is the country that a suffix stands for (ISO 3166-1, with the exceptions of the
// root zone), or what kind of suffix it is.
func suffixTitle(suffix string) string {
	switch suffix {
	case "uk":
		suffix = "gb"
	case "eu":
		return "European Union"
	case "example", "test", "invalid", "localhost":
		return "reserved (RFC 2606)"
	}
	if len(suffix) == 2 {
		if r, err := language.ParseRegion(suffix); err == nil && r.IsCountry() {
			return display.English.Regions().Name(r)
		}
	}
	if _, listed := publicsuffix.PublicSuffix("x." + suffix); listed {
		return "no country"
	}
	return "unknown suffix"
}

// StatisticsOf returns what the domains of a table tell, whose addresses are counted once each. No
// operator is known.
func StatisticsOf(t Table, with Env) (Statistics, error) {
	g, sizes := Gathering{Catalogue: with.Catalogue}, map[string]int64{}
	m := Match{By: ByAddress, Columns: t.Addresses, Grammar: with.Grammar}
	if err := m.check(t); err != nil {
		return Statistics{}, err
	}
	defer with.Spill.Close()
	seen := with.Spill.sorter()
	domains, names := map[string]uint64{}, []string{}
	err := t.each(func(_ int64, r Row) error {
		for _, c := range t.Addresses {
			a, err := with.Grammar.Parse(r.Cell(c))
			if err != nil {
				continue
			}
			id, ok := domains[a.Domain]
			if !ok {
				id = uint64(len(names))
				domains[a.Domain], names = id, append(names, a.Domain)
			}
			if err := seen.add(record{key: hashed(a.Canonical()), rank: id}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return Statistics{}, err
	}
	var before key
	for r, err := range seen.sorted() {
		if err != nil {
			return Statistics{}, err
		}
		if r.key != before {
			sizes[names[r.rank]]++
		}
		before = r.key
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(cmp.Compare(sizes[b], sizes[a]), cmp.Compare(a, b)) })
	for _, name := range names {
		g.Add(name, sizes[name], "")
	}
	return g.Statistics(), nil
}

package workshop

import (
	"context"
	"fmt"
	"slices"
	"time"

	"varnet/core/catalogue"
	"varnet/core/finding"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/core/workshop"
	"varnet/internal/contract"
	"varnet/internal/store"
	"varnet/internal/store/pack"
)

// Profiles returns what the columns of a list are like. A list does not change, so that they are
// remembered.
func (w *Workshop) Profiles(ctx context.Context, l store.List) ([]contract.ColumnProfile, error) {
	kept, err := w.Store.Profile(ctx, l.ID)
	if err != nil || kept != nil {
		return profilesBody(kept), err
	}
	if kept, err = profiles(w.table(ctx, l, false, func() error { return nil })); err != nil {
		return nil, err
	}
	return profilesBody(kept), w.Store.SaveProfile(ctx, l.ID, kept)
}

func profiles(t workshop.Table) ([]pack.ColumnProfile, error) {
	found, err := workshop.Profiles(t)
	return contract.Each(found, func(p workshop.Profile) pack.ColumnProfile {
		return pack.ColumnProfile{Column: p.Column, Rows: p.Rows, Empty: p.Empty, Distinct: p.Distinct, Exact: p.Exact, Shortest: p.Shortest, Longest: p.Longest,
			Most: contract.Each(p.Most, func(c workshop.Count) pack.ValueCount { return pack.ValueCount(c) }), Dates: p.Dates, First: p.First, Last: p.Last}
	}), err
}

// FileProfiles returns what the columns of a file are like.
func FileProfiles(ctx context.Context, path string) ([]contract.ColumnProfile, error) {
	t, err := File(ctx, path, "", sheet.Overrule{})
	if err != nil {
		return nil, err
	}
	found, err := profiles(t)
	return profilesBody(found), err
}

// Domains returns what the domains of a list tell.
func (w *Workshop) Domains(ctx context.Context, l store.List) (contract.DomainStatistics, error) {
	own, err := w.Catalogue(ctx, l.WorkspaceID)
	if err != nil {
		return contract.DomainStatistics{}, err
	}
	g := workshop.Gathering{Catalogue: own}
	err = w.Store.EachDomain(ctx, l.WorkspaceID, l.ID, func(d store.SizedDomain) { g.Add(d.Domain, d.Addresses, d.Operator) })
	return statisticsBody(g.Statistics()), err
}

// FileDomains returns what the domains of a file tell.
func FileDomains(ctx context.Context, path string) (contract.DomainStatistics, error) {
	t, err := File(ctx, path, "", sheet.Overrule{})
	if err != nil {
		return contract.DomainStatistics{}, err
	}
	s, err := workshop.StatisticsOf(t, workshop.Env{Spill: workshop.NewSpill(""), Catalogue: catalogue.Default()})
	return statisticsBody(s), err
}

// domainsSay says what the domains of a list tell, in sentences.
func domainsSay(s workshop.Statistics) string {
	if s.Addresses == 0 {
		return "The list has no address."
	}
	said := fmt.Sprintf("%s at %s.", say.Addresses(s.Addresses), say.Plural(s.Domains, "domain", "domains"))
	if len(s.Largest) > 0 && s.Domains > 1 {
		said += fmt.Sprintf(" The largest, %s, has %s of them.", s.Largest[0].Name, say.Number(s.Largest[0].Addresses))
	}
	of := func(t finding.Trait) int64 {
		i := slices.IndexFunc(s.Traits, func(x workshop.Share) bool { return x.Name == string(t) })
		if i < 0 {
			return 0
		}
		return s.Traits[i].Addresses
	}
	if n := of(finding.TraitFreeMail); n > 0 {
		said += fmt.Sprintf(" %s of the %s are at free-mail services.", say.Number(n), say.Addresses(s.Addresses))
	}
	if n := of(finding.TraitDisposable); n > 0 {
		said += fmt.Sprintf(" %s are at disposable domains.", say.Number(n))
	}
	if n := of(finding.TraitTypo) + of(finding.TraitTrapTypo); n > 0 {
		said += fmt.Sprintf(" %s are at domains that look like typing errors.", say.Number(n))
	}
	return said
}

// ages are the bounds of the ages by which known results are counted, in days.
var ages = [3]int{7, 30, 90}

// Known returns what is known of the addresses of a list before it is run.
func (w *Workshop) Known(ctx context.Context, l store.List) (k contract.KnownResults, err error) {
	found, err := w.Store.Known(ctx, l)
	if err != nil {
		return k, err
	}
	verdicts, err := w.Store.Verdicts(ctx)
	if err != nil {
		return k, err
	}
	k.Addresses, k.Findings = l.Addresses, []contract.KnownCount{}
	counts, now := map[finding.Finding]*contract.KnownCount{}, w.Now()
	found.Each(func(verdict int32, at time.Time) {
		f := verdicts[verdict].Finding
		c := counts[f]
		if c == nil {
			c = &contract.KnownCount{Finding: string(f), Oldest: at}
			counts[f] = c
		}
		k.Known++
		c.Addresses++
		if at.Before(c.Oldest) {
			c.Oldest = at
		}
		old := func(days int) bool { return now.Sub(at) > time.Duration(days)*24*time.Hour }
		switch {
		case old(ages[2]):
			c.Older++
		case old(ages[1]):
			c.Quarter++
		case old(ages[0]):
			c.Month++
		default:
			c.Week++
		}
	})
	for _, f := range finding.Findings() {
		if c := counts[f]; c != nil {
			k.Findings = append(k.Findings, *c)
		}
	}
	k.Says = knownSays(k)
	return k, nil
}

func knownSays(k contract.KnownResults) string {
	if k.Known == 0 {
		return "Nothing is known of its addresses yet."
	}
	var parts []string
	month := int64(0)
	for _, c := range k.Findings {
		parts = append(parts, say.Number(c.Addresses)+" "+c.Finding)
		month += c.Week + c.Month
	}
	known, young := say.Number(k.Known)+" of the "+say.Addresses(k.Addresses), say.Number(month)
	if k.Known == k.Addresses && k.Known > 1 {
		known = "All " + say.Addresses(k.Addresses)
	}
	if month == k.Known {
		young = "All"
	}
	return fmt.Sprintf("%s are known from earlier runs: %s. %s of these results are at most 30 days old.", known, say.And(parts...), young)
}

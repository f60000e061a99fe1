package workshop

import (
	"varnet/core/workshop"
	"varnet/internal/contract"
	"varnet/internal/store/pack"
)

// RecipeOf is a recipe as the API has it.
func RecipeOf(steps []contract.WorkshopStep) workshop.Recipe {
	return contract.Each(steps, func(s contract.WorkshopStep) workshop.Step {
		return workshop.Step{Do: s.Do, With: s.With, By: s.By, Columns: s.Columns, Together: s.Together, Keep: s.Keep, Newest: s.Newest,
			Aliases:    contract.Each(s.Aliases, func(a contract.WorkshopAlias) workshop.Alias { return workshop.Alias(a) }),
			Conditions: contract.Each(s.Conditions, func(c contract.WorkshopCondition) workshop.Condition { return workshop.Condition(c) }), Any: s.Any,
			Slice: workshop.Slice{From: s.From, To: s.To, Every: s.Every, Last: s.Last, Sample: s.Sample, Seed: s.Seed},
			Terms: s.Terms, TermLists: s.TermLists, How: s.How, Found: s.Found,
			Changes: contract.Each(s.Changes, func(c contract.WorkshopChange) workshop.Change { return workshop.Change(c) })}
	})
}

// Steps are the steps of a recipe as the API has them.
func Steps(r workshop.Recipe) []contract.WorkshopStep {
	return contract.Each(r, func(s workshop.Step) contract.WorkshopStep {
		return contract.WorkshopStep{Do: s.Do, With: s.With, By: s.By, Columns: s.Columns, Together: s.Together, Keep: s.Keep, Newest: s.Newest,
			Aliases:    contract.Each(s.Aliases, func(a workshop.Alias) contract.WorkshopAlias { return contract.WorkshopAlias(a) }),
			Conditions: contract.Each(s.Conditions, func(c workshop.Condition) contract.WorkshopCondition { return contract.WorkshopCondition(c) }), Any: s.Any,
			From: s.Slice.From, To: s.Slice.To, Every: s.Slice.Every, Last: s.Slice.Last, Sample: s.Slice.Sample, Seed: s.Slice.Seed,
			Terms: s.Terms, TermLists: s.TermLists, How: s.How, Found: s.Found,
			Changes: contract.Each(s.Changes, func(c workshop.Change) contract.WorkshopChange { return contract.WorkshopChange(c) })}
	})
}

// SplitOf is a split as the API has it; nil for none.
func SplitOf(s *contract.WorkshopSplit) *workshop.Splitting {
	if s == nil {
		return nil
	}
	split := workshop.Splitting(*s)
	return &split
}

// JobOf is what was made, or would be, as the API has it.
func JobOf(r pack.WorkshopReport, says string) contract.WorkshopJob {
	j := contract.WorkshopJob{State: "done", Rows: r.Rows, Says: says, Columns: append([]string{}, r.Columns...), From: append([][]string{}, r.From...), First: append([][]string{}, r.First...),
		Steps: []contract.WorkshopDone{}, Parts: []contract.WorkshopPart{}, ListIDs: []int64{}}
	for _, s := range r.Steps {
		j.Steps = append(j.Steps, contract.WorkshopDone{Says: s.Says, Before: s.Before, Others: append([]int64{}, s.Others...), Rows: s.Rows})
	}
	j.Parts = append(j.Parts, contract.Each(r.Parts, func(p pack.WorkshopPartDone) contract.WorkshopPart { return contract.WorkshopPart(p) })...)
	return j
}

// profilesBody is what columns are like as the API has it.
func profilesBody(all []pack.ColumnProfile) []contract.ColumnProfile {
	return append([]contract.ColumnProfile{}, contract.Each(all, func(p pack.ColumnProfile) contract.ColumnProfile {
		b := contract.ColumnProfile{Column: p.Column, Rows: p.Rows, Empty: p.Empty, Distinct: p.Distinct, Exact: p.Exact, Shortest: p.Shortest, Longest: p.Longest, Dates: p.Dates,
			Most: append([]contract.ValueCount{}, contract.Each(p.Most, func(v pack.ValueCount) contract.ValueCount { return contract.ValueCount(v) })...)}
		if p.Dates > 0 {
			b.Earliest, b.Latest = &p.First, &p.Last
		}
		return b
	})...)
}

// statisticsBody is what the domains of a list tell as the API has it.
func statisticsBody(s workshop.Statistics) contract.DomainStatistics {
	return contract.DomainStatistics{Addresses: s.Addresses, Domains: s.Domains, Largest: sharesBody(s.Largest), Operators: sharesBody(s.Operators), Unknown: s.Unknown,
		Traits: sharesBody(s.Traits), Countries: sharesBody(s.Countries), Suspicious: sharesBody(s.Suspicious), Says: domainsSay(s)}
}

func sharesBody(all []workshop.Share) []contract.DomainShare {
	return append([]contract.DomainShare{}, contract.Each(all, func(s workshop.Share) contract.DomainShare {
		b := contract.DomainShare{Name: s.Name, Title: s.Title, Addresses: s.Addresses, Domains: s.Domains, Meant: s.Meant}
		for _, t := range s.Traits {
			b.Traits = append(b.Traits, string(t))
		}
		return b
	})...)
}

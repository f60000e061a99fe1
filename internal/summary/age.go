package summary

import (
	"fmt"
	"time"

	"varnet/core/say"
	"varnet/internal/contract"
)

// ageDays are the ages by which results are told apart, in days.
var ageDays = []int{1, 7, 30, 90, 180}

// AgeBounds are the same as durations.
func AgeBounds() []time.Duration {
	return contract.Each(ageDays, func(days int) time.Duration { return time.Duration(days) * 24 * time.Hour })
}

// Ages says how old results are, of the counts between the bounds.
func Ages(counts []int64, mean time.Duration) contract.ResultAges {
	a := contract.ResultAges{MeanDays: mean.Hours() / 24}
	for i, n := range counts {
		g := contract.AgeGroup{Results: n}
		if i < len(ageDays) {
			g.UnderDays = ageDays[i]
		}
		a.Ages, a.Results = append(a.Ages, g), a.Results+n
	}
	a.Sentence = agesSay(a)
	return a
}

func agesSay(a contract.ResultAges) string {
	if a.Results == 0 {
		return "There is no result yet."
	}
	var parts []string
	add := func(g contract.AgeGroup, old string) {
		n := say.Number(g.Results)
		if g.Results == a.Results {
			n = say.Plural(g.Results, "result", "results")
		}
		parts = append(parts, n+" "+map[bool]string{true: "is", false: "are"}[g.Results == 1]+" "+old)
	}
	for i, g := range a.Ages {
		switch {
		case g.Results == 0:
		case g.UnderDays == 0:
			add(g, fmt.Sprintf("older than %d days", ageDays[i-1]))
		case i == 0:
			add(g, "younger than a day")
		default:
			add(g, fmt.Sprintf("%d to %d days old", ageDays[i-1], g.UnderDays))
		}
	}
	if len(parts) == 1 {
		return "All " + parts[0] + "."
	}
	return fmt.Sprintf("Of the %s %s.", say.Plural(a.Results, "result", "results"), say.And(parts...))
}

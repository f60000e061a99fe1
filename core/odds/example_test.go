package odds_test

import (
	"fmt"

	"varnet/core/naming"
	"varnet/core/odds"
)

// Forty messages went to a domain whose people are first.last; those to others came back.
func ExampleFit() {
	wren := naming.Name{First: "Wren", Last: "Vale"}
	known, list := &odds.Neighbours{}, &odds.Neighbours{}
	var outcomes []odds.Outcome
	for i := range 40 {
		o := odds.Outcome{Evidence: odds.Evidence{Domain: "orchard.example", Operator: "hosting.example", Prior: 0.55, Facts: odds.FactsOf("wren.vale", wren, nil), Known: known, List: list}, Arrived: i%2 == 0}
		if o.IsKnown = o.Arrived; !o.Arrived {
			o.Facts = odds.FactsOf("wvale", wren, nil)
		} else {
			known.Add(o.Facts, 1)
		}
		list.Add(o.Facts, 1)
		outcomes = append(outcomes, o)
	}
	m := odds.Fit(outcomes)
	for _, local := range []string{"wren.vale", "wvale", "gardener"} {
		p, factors := m.Odds(odds.Evidence{Domain: "orchard.example", Operator: "hosting.example", Prior: 0.55, Facts: odds.FactsOf(local, wren, nil), Known: known, List: list})
		fmt.Printf("%s: %.0f in 100; %s\n", local, 100*p, factors[len(factors)-1].What)
	}
	// Output:
	// wren.vale: 88 in 100; fits the naming habit of 20 of 20 known mailboxes there (first.last)
	// wvale: 6 in 100; built from its name differently (flast) than 20 of 20 known mailboxes there
	// gardener: 6 in 100; not built from its name, unlike 20 of 20 known mailboxes there
}

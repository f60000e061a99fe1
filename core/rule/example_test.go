package rule_test

import (
	"fmt"

	"varnet/core/rule"
)

// The first rule that fits says how somebody is asked.
func ExampleFirst() {
	rules := []rule.Rule{{Of: rule.OfDomain, Pattern: "*.gov.example", Depth: "never"}, {Of: rule.OfOperator, Pattern: "postbarn.example", Lanes: 2}}
	for _, s := range []rule.Subject{{Domain: "tax.gov.example"}, {Domain: "fernhollow.example", Operator: "postbarn.example"}, {Domain: "elsewhere.example"}} {
		fmt.Println(rule.First(rules, s))
	}
	// Output:
	// 0
	// 1
	// -1
}

package estimate_test

import (
	"fmt"

	"varnet/core/estimate"
)

// A share that a sample shows holds for the whole list within an interval.
func ExampleOf() {
	fmt.Println(estimate.Of(40, 400, 100_000).Percent())
	fmt.Println(estimate.Of(40, 400, 400).Percent()) // all were asked about
	// Output:
	// 7 to 14 %
	// 10 %
}

package pace_test

import (
	"fmt"

	"varnet/core/pace"
)

// A lane takes an equal part of what is left, so that all have something to do until the
// end; not less than is worth a session.
func ExamplePortion() {
	for _, ready := range []int64{100_000, 800, 100, 10} {
		fmt.Println(ready, pace.Portion(ready, 4, 5))
	}
	// Output:
	// 100000 576
	// 800 200
	// 100 25
	// 10 12
}

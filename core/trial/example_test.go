package trial_test

import (
	"fmt"
	"time"

	"varnet/core/trial"
)

func ExampleTakes() {
	// 90 letters to one operator that is left alone for a minute between two, 10 to another.
	loads := []trial.Load{{Letters: 90, Rest: time.Minute}, {Letters: 10, Rest: time.Second}}
	fmt.Println(trial.Takes(loads, 500, 0))
	// Output: 1h29m0s
}

package steal_test

import (
	"fmt"
	"time"

	"varnet/internal/steal"
)

// Of what was measured, that which says something of the work and not of the host.
func Example() {
	watch := steal.Begin()
	begun := time.Now()
	watch.End()
	fmt.Println("known to be calm:", watch.Calm(begun))
	// Output: known to be calm: false
}

package outbox_test

import (
	"fmt"

	"varnet/internal/outbox"
)

// A notice leads to the place of what it is about.
func ExamplePlace() {
	fmt.Println(outbox.Place("runs/7"), outbox.HostOf("https://hooks.fernhollow.example/varnet?for=members"))
	// Output:
	// /runs/7 hooks.fernhollow.example
}

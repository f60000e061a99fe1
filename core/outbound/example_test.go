package outbound_test

import (
	"fmt"

	"varnet/core/outbound"
)

// Parts are written one a line.
func ExampleParseLines() {
	parts, err := outbound.ParseLines(outbound.Resolver, "192.0.2.53\n192.0.2.54:5353\n")
	for _, p := range parts {
		fmt.Println(p.Kind, p.Name)
	}
	fmt.Println(err)
	// Output:
	// resolver 192.0.2.53:53
	// resolver 192.0.2.54:5353
	// <nil>
}

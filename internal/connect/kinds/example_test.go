package kinds_test

import (
	"fmt"

	"varnet/internal/connect/kinds"
)

// All kinds of connections, and what settings each wants.
func ExampleAll() {
	for _, k := range kinds.All() {
		fmt.Printf("%s: %d fields\n", k.Code, len(k.Fields))
	}
	// Output:
	// platform: 6 fields
	// directory: 9 fields
	// address-book: 3 fields
	// mailing-lists: 3 fields
	// database: 10 fields
	// files: 7 fields
}

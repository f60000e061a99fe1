package migrate_test

import (
	"fmt"

	"varnet/internal/store/migrate"
)

// A release knows the schemas up to its own.
func ExampleKnown() {
	fmt.Println(migrate.Known() > 0)
	// Output:
	// true
}

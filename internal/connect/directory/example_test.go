package directory_test

import (
	"fmt"

	"varnet/internal/connect"
	"varnet/internal/connect/directory"
)

// Settings are checked before anything is contacted.
func Example() {
	fmt.Println(directory.Kind.CheckSettings(connect.Settings{}))
	// Output:
	// address: Address is missing
}

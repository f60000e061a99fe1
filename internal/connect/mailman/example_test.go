package mailman_test

import (
	"fmt"

	"varnet/internal/connect"
	"varnet/internal/connect/mailman"
)

// Settings are checked before anything is contacted.
func Example() {
	fmt.Println(mailman.Kind.CheckSettings(connect.Settings{}))
	// Output:
	// address: Address of its REST interface is missing
}

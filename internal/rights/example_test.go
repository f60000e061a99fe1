package rights_test

import (
	"fmt"

	"varnet/internal/rights"
	"varnet/internal/store"
)

// What was done about a request is said in sentences that one can send to the person.
func ExampleSays() {
	fmt.Println(rights.Says(store.Request{Kind: store.RequestAllow, State: store.RequestDone}))
	// Output:
	// The address may be kept and asked about again.
}

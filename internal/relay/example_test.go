package relay_test

import (
	"fmt"
	"os"

	"varnet/internal/relay"
)

// A relay is opened by a token; the one before works until the next rotation.
func ExampleRotate() {
	folder, _ := os.MkdirTemp("", "varnet-example-")
	defer os.RemoveAll(folder)
	state, err := relay.Keep(folder)
	if err != nil || !state.Fresh {
		fmt.Println(err)
	}
	for range 3 {
		if err := relay.Rotate(folder); err != nil {
			fmt.Println(err)
		}
	}
	tokens, err := relay.Tokens(folder)
	fmt.Println(len(tokens), err)
	// Output:
	// 2 <nil>
}

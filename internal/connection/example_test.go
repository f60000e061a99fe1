package connection_test

import (
	"errors"
	"fmt"

	"varnet/internal/connect"
	"varnet/internal/connection"
)

// What went wrong at a place is said as a sentence.
func ExampleSays() {
	fmt.Println(connection.Says(connect.Troublef("the platform does not answer")))
	fmt.Println(connection.Says(errors.New("out of memory")))
	// Output:
	// the platform does not answer
	// out of memory
}

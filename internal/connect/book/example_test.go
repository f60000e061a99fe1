package book_test

import (
	"fmt"

	"varnet/internal/connect"
	"varnet/internal/connect/book"
)

// Settings are checked before anything is contacted.
func Example() {
	fmt.Println(book.Kind.CheckSettings(connect.Settings{}))
	// Output:
	// address: Address is missing
}

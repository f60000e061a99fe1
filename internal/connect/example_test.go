package connect_test

import (
	"fmt"

	"varnet/internal/connect"
)

// An order is for the addresses that a contact had when it was imported, and for no others.
func ExampleSame() {
	imported := []string{"ada.moss@fernhollow.example"}
	fmt.Println(connect.Same(imported, []string{"ada.moss@fernhollow.example"}), connect.Same(imported, []string{"ben.reed@fernhollow.example"}))
	// Output:
	// true false
}

// What a place says of itself is shown on one line.
func ExamplePlain() {
	fmt.Println(connect.Plain("two\r\nlines"))
	// Output:
	// two lines
}

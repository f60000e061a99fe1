package address_test

import (
	"fmt"

	"varnet/core/address"
)

// What stands around an address in a cell is removed, and said.
func ExampleParse() {
	a, err := address.Parse(" <mailto:Ada.Moss@FERNHOLLOW.example> ")
	fmt.Println(a.Mailbox(), err)
	fmt.Println(a.Mended)
	_, err = address.Parse("ada.moss@@fernhollow.example")
	fmt.Println(err)
	// Output:
	// Ada.Moss@fernhollow.example <nil>
	// [spaces around it removed display name and angle brackets removed “mailto:” removed]
	// There is a second @ in it.
}

package catalogue_test

import (
	"fmt"

	"varnet/core/address"
	"varnet/core/catalogue"
)

// Own entries go before the shipped ones.
func Example() {
	own := catalogue.With([]catalogue.Entry{{Kind: catalogue.Disposable, Name: "tenminutes.example"}})
	for _, text := range []string{"info2@fernhollow.example", "ada@tenminutes.example", "asdfghjkl@fernhollow.example"} {
		fmt.Println(text, own.Traits(address.Rebuild(text)))
	}
	// Output:
	// info2@fernhollow.example [role]
	// ada@tenminutes.example [disposable]
	// asdfghjkl@fernhollow.example [random-looking]
}

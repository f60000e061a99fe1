package phrase_test

import (
	"fmt"

	"varnet/core/phrase"
)

func ExampleOf() {
	full := phrase.Of("mailbox…full", "_ptr_")
	fmt.Println(full.In(phrase.Fold("The Mailbox of Wren is FULL")))
	fmt.Println(full.In(phrase.Fold("full of mailboxes")))
	fmt.Println(full.In(phrase.Fold("no PTR record")), full.In(phrase.Fold("sculptres")))
	// Output:
	// true
	// false
	// true false
}

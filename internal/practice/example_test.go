package practice_test

import (
	"fmt"

	"varnet/internal/practice"
)

// The truth about every mailbox of a world is known, so that every finding can be held against it.
func ExampleLoad() {
	w, err := practice.Load("fernhollow")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(w.Name, w.Truth("nobody.at.all@fernhollow.example").Exists)
	// Output:
	// fernhollow false
}

// Characters are how operators behave.
func ExampleCharacters() {
	for _, c := range practice.Characters() {
		if c.Name == "greylisting" {
			fmt.Println(c.Imitates, c.Honest())
		}
	}
	// Output:
	// A host that puts each new triplet off for a while (RFC 6647). true
}

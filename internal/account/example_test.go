package account_test

import (
	"fmt"

	"varnet/internal/account"
)

// What speaks against a password is said in a sentence; nothing is demanded of its letters.
func ExampleWeakPassword() {
	for _, password := range []string{"seeds", "ada.moss@fernhollow.example", "a row of beans by the wall"} {
		fmt.Printf("%q\n", account.WeakPassword(password, "ada.moss@fernhollow.example", "Ada Moss"))
	}
	// Output:
	// "It has 5 characters; a password needs at least 10."
	// "It is too much like your name or address, which others know. Choose another."
	// ""
}

// Keys are known by how they begin, so that one is found in a log or in a file.
func ExampleIsKey() {
	fmt.Println(account.IsKey(account.NewKey()), account.IsKey("a word"))
	// Output:
	// true false
}

// Each scope of a key belongs to a role: nobody makes a key that may do more than they may.
func ExampleLeastRole() {
	for _, s := range []account.Scope{account.Read, account.Team} {
		fmt.Println(s, account.LeastRole(s))
	}
	// Output:
	// read reader
	// team owner
}

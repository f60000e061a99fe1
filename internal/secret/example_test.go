package secret_test

import (
	"fmt"

	"varnet/internal/secret"
)

func ExampleBox_Seal() {
	before, err := secret.New("a secret of thirty-two letters or more")
	if err != nil {
		fmt.Println(err)
		return
	}
	sealed := before.Seal("the password of a proxy", "route")
	// With a new secret in front of it, what was sealed before is still opened.
	now, err := secret.New("another secret of thirty-two letters", "a secret of thirty-two letters or more")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(now.Open(sealed, "route"))
	// Output: the password of a proxy <nil>
}

package testkit_test

import (
	"fmt"
	"testing"

	"varnet/internal/testkit"
)

// A test starts a service of its own on a practice internet, and ends with both.
func Example() {
	test := func(t *testing.T) {
		s := testkit.Serve(t, testkit.Settings(testkit.Database(t), testkit.World(t, "fernhollow")))
		fmt.Println(s.URL, s.Key)
	}
	_ = test // "go test" calls it
}

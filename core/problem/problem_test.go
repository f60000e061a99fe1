package problem_test

import (
	"errors"
	"fmt"

	"varnet/core/problem"
)

func Example() {
	err := fmt.Errorf("the source was not saved: %w", problem.In("host", "%q is not a host name", "mail server"))
	var f *problem.Field
	if errors.As(err, &f) {
		fmt.Println(f.Name)
		fmt.Println(f.Why)
	}
	// Output:
	// host
	// "mail server" is not a host name
}

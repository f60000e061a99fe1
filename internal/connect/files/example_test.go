package files_test

import (
	"fmt"

	"varnet/internal/connect/files"
)

// No name leads out of the folder.
func ExampleCheckPattern() {
	for _, name := range []string{"members/*.csv", "../secret.csv"} {
		fmt.Println(name, files.CheckPattern(name))
	}
	// Output:
	// members/*.csv <nil>
	// ../secret.csv "../secret.csv" is not a file or a pattern of names, such as members/*.csv, within the folder
}

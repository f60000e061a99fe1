package database_test

import (
	"fmt"

	"varnet/internal/connect"
	"varnet/internal/connect/database"
)

// Settings are checked before anything is contacted.
func Example() {
	fmt.Println(database.Kind.CheckSettings(connect.Settings{}))
	// Output:
	// host: Host is missing
}

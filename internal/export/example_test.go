package export_test

import (
	"fmt"

	"varnet/internal/export"
)

// What may have been meant keeps the mailbox and changes its domain.
func ExampleSuggestion() {
	fmt.Println(export.Suggestion("ada.moss@fernholow.example", "fernhollow.example"))
	// Output:
	// ada.moss@fernhollow.example
}

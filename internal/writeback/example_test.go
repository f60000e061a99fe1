package writeback_test

import (
	"fmt"

	"varnet/internal/store/pack"
	"varnet/internal/writeback"
)

// A write-back is told in a few words before anything is written.
func ExampleSummary() {
	fmt.Println(writeback.Summary([]pack.WriteBackStep{
		{Act: "tag", Name: "bounced", Decisions: []string{"drop"}},
		{Act: "field", Name: "Varnet", Of: writeback.OfFinding},
	}))
	// Output:
	// the tag “bounced” for those to drop and the finding in the field “Varnet” for everybody
}

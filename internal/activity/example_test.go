package activity_test

import (
	"context"
	"fmt"
	"time"

	"varnet/core/address"
	"varnet/internal/activity"
	"varnet/internal/intake"
	"varnet/internal/store"
)

// A table of opens and clicks is imported; its columns are found by themselves.
func ExampleDesk_Import() {
	var s *store.Store
	var table *intake.Reading // of a file, by intake.Read
	desk := activity.Desk{Store: s, Grammar: address.Grammar{}, Now: time.Now}
	imported, err := desk.Import(context.Background(), 1, table, activity.Columns{}, "opened", "opens.csv")
	fmt.Println(imported.Says, err)
}

package summary_test

import (
	"fmt"
	"time"

	"varnet/internal/summary"
)

// Times of a run are said for the clock of those who read them.
func ExampleClock() {
	berlin, _ := time.LoadLocation("Europe/Berlin")
	fmt.Println(summary.Clock(time.Date(2026, 3, 2, 9, 5, 0, 0, time.UTC), berlin))
	// Output:
	// 10:05:00 CET
}

package clock_test

import (
	"fmt"
	"time"

	"varnet/internal/clock"
)

func ExampleDaily() {
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		fmt.Println(err)
		return
	}
	evening := time.Date(2026, 11, 29, 20, 0, 0, 0, berlin)
	fmt.Println(clock.Daily(evening, berlin, 7).Format(time.RFC3339))
	// Output: 2026-11-30T07:00:00+01:00
}

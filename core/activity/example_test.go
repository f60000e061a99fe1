package activity_test

import (
	"fmt"
	"time"

	"varnet/core/activity"
)

func ExampleSeen_Step() {
	now := time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC)
	opened := activity.Seen{At: time.Date(2026, 11, 3, 0, 0, 0, 0, time.UTC), Kind: "opened", From: "letters.csv"}
	fmt.Println(opened.Days(now), "days ago:", opened.Step(now))
	fmt.Println("nothing was seen:", activity.Seen{}.Step(now))
	// Output:
	// 26 days ago: 30
	// nothing was seen: never
}

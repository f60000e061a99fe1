package event_test

import (
	"fmt"

	"varnet/core/event"
)

func ExampleOf() {
	k, _ := event.Of(event.RunFinished)
	fmt.Println(k.Code, k.Severity, k.About)
	// Output: run.finished news runs
}

package giveway_test

import (
	"context"
	"fmt"

	"varnet/internal/giveway"
)

func ExampleGate_Attend() {
	gate := giveway.New()
	ctx, done := gate.Attend(context.Background()) // somebody waits
	defer done()
	gate.GiveWay(ctx) // who is waited for gives way to nobody
	fmt.Println(giveway.Attended(ctx), giveway.Attended(context.Background()))
	// Output: true false
}

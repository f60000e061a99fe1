package outbound_test

import (
	"context"
	"fmt"
	"time"

	"varnet/core/rule"
	"varnet/internal/outbound"
	"varnet/internal/store"
)

// Before a parcel is asked about, the present setup says by whom, by which way, and where.
func ExampleSetup_Asking() {
	var o *outbound.Outbound // the engine has one
	setup, err := o.Setup(context.Background())
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(setup.Asking(store.Operator{}, rule.Subject{}, time.Now()))
}

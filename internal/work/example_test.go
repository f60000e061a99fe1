package work_test

import (
	"context"
	"fmt"

	"varnet/internal/work"
)

// An engine is made of its configuration, works jobs from Start on, and ends conversations before
// Stop returns.
func ExampleNew() {
	ctx := context.Background()
	var c work.Config // as "varnet serve" reads it from its settings
	e, err := work.New(c)
	if err != nil {
		fmt.Println(err)
		return
	}
	if err := e.Start(ctx); err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(e.Stop(ctx))
}

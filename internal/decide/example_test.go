package decide_test

import (
	"context"
	"fmt"

	"varnet/core/policy"
	"varnet/internal/decide"
	"varnet/internal/decide/decidetest"
)

// A decider rules on each row of a run under a policy; what it read once it keeps.
func ExampleNew() {
	ctx := context.Background()
	source := decidetest.Members(100)
	careful := policy.Careful()
	d, err := decide.New(ctx, source, source.Run, source.List, careful)
	if err != nil {
		fmt.Println(err)
		return
	}
	pool, err := d.Pool(ctx, decide.Filter{})
	fmt.Println(pool.Count(decide.Filter{}), pool.Count(decide.Filter{Decision: string(policy.Keep)}), err)
	// Output:
	// 68 17 <nil>
}

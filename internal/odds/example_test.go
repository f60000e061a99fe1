package odds_test

import (
	"context"
	"fmt"
	"time"

	"varnet/internal/odds"
	"varnet/internal/store"
)

// Odds are learnt from what became of mailings, and stated for the catch-all addresses of runs.
func ExampleOdds_Learn() {
	ctx := context.Background()
	var s *store.Store
	o := odds.Odds{Store: s, Now: time.Now}
	learnt, err := o.Learn(ctx, 1, false)
	if err != nil || !learnt {
		fmt.Println("too few outcomes yet", err)
		return
	}
	look, err := o.Look(ctx, 1)
	fmt.Println(look, err)
}

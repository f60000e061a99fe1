package opinion_test

import (
	"context"
	"fmt"

	"varnet/internal/opinion"
	"varnet/internal/store"
)

// What other checks said in columns of a list is held against what its latest run found.
func ExampleDesk_Look() {
	var s *store.Store
	var list store.List
	compared, err := (&opinion.Desk{Store: s}).Look(context.Background(), list)
	fmt.Println(compared, err)
}

package store_test

import (
	"context"
	"fmt"

	"varnet/internal/store"
)

// A store is opened, brought up to date, and asked; what belongs to a workspace wants its number.
func ExampleOpen() {
	ctx := context.Background()
	s, err := store.Open(ctx, "postgres://varnet@127.0.0.1/varnet")
	if err != nil {
		fmt.Println(err) // it names what to check
		return
	}
	defer s.Close()
	if err := s.Migrate(ctx); err != nil {
		fmt.Println(err)
		return
	}
	lists, err := s.Lists(ctx, 1, store.ListFilter{Limit: 10})
	for _, l := range lists {
		fmt.Println(l.Name, l.Rows)
	}
	fmt.Println(err)
}

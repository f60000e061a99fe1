package workshop_test

import (
	"fmt"
	"iter"

	"varnet/core/workshop"
)

func ExampleTake() {
	members := workshop.Table{Name: "Members", Columns: []string{"Name"}, Rows: func() iter.Seq2[workshop.Row, error] {
		return func(yield func(workshop.Row, error) bool) {
			for _, name := range []string{"Ada", "Bea", "Cai", "Dora", "Enid"} {
				if !yield(workshop.NewRow([]string{name}), nil) {
					return
				}
			}
		}
	}}
	slice := workshop.Slice{From: 2, Every: 2}
	some, err := workshop.Take(members, slice)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(slice.Says())
	for row, err := range some.Rows() {
		fmt.Println(row.Cell(0), err)
	}
	// Output:
	// rows from 2 on, one in every 2
	// Bea <nil>
	// Dora <nil>
}

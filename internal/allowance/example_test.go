package allowance_test

import (
	"fmt"

	"varnet/internal/allowance"
	"varnet/internal/store"
)

// What a run has cost is told while it goes on, too.
func ExampleCostOf() {
	fmt.Println(allowance.CostOf([]store.Spent{{Reserved: 1200, Charged: 1150}}))
	fmt.Println(allowance.CostOf([]store.Spent{{Reserved: 1200, Charged: 300, Open: true}}))
	// Output:
	// It took 1,150 checks; 50 were set aside and given back.
	// 300 checks are charged so far; 900 are still set aside.
}

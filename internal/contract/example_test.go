package contract_test

import (
	"fmt"
	"net/url"

	"varnet/internal/contract"
)

// What a query does not say is left to the service.
func ExampleQuery() {
	fmt.Println(contract.Query(contract.ListQuery{Search: "members"}).Encode())
	fmt.Println(url.Values{}.Encode() == contract.Query(contract.ListQuery{}).Encode())
	// Output:
	// search=members
	// true
}

// A cursor stands for a place, whatever its page was sorted by.
func ExampleCursorOf() {
	var place int64
	err := contract.ReadCursor(contract.CursorOf(int64(200)), &place)
	fmt.Println(place, err)
	// Output:
	// 200 <nil>
}

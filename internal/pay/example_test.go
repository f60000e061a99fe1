package pay_test

import (
	"fmt"

	"varnet/internal/pay"
)

// A provider is called over HTTPS, but for one on this machine.
func ExampleCheckAddress() {
	for _, address := range []string{"https://pay.example", "http://127.0.0.1:2592", "http://pay.example"} {
		fmt.Println(address, pay.CheckAddress(address))
	}
	// Output:
	// https://pay.example <nil>
	// http://127.0.0.1:2592 <nil>
	// http://pay.example the provider's address is an https address, such as https://pay.example; http is for this machine alone
}

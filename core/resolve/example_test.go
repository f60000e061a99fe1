package resolve_test

import (
	"fmt"

	"varnet/core/resolve"
)

// Who runs the exchangers is the registrable domain of the first one's name.
func ExampleDomain_Operator() {
	d := resolve.Domain{Name: "fernhollow.example", Exchangers: []resolve.Exchanger{{Host: "mx1.mail.postbarn.example", Preference: 10}, {Host: "mx2.mail.postbarn.example", Preference: 20}}}
	fmt.Println(d.Operator(), d.Hosts())
	// Output:
	// postbarn.example [mx1.mail.postbarn.example mx2.mail.postbarn.example]
}

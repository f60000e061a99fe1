package probe_test

import (
	"fmt"

	"varnet/core/probe"
	"varnet/core/smtp"
)

// A prober asks from an identity, by a way out.
func ExampleNew() {
	p := probe.New(probe.DirectDialer(false), smtp.Identity{Name: "verify.fernhollow.example", Sender: "check@fernhollow.example"})
	p.Port = 25
	fmt.Println(probe.AcceptsKnown.Sentence())
	// Output:
	// It refuses made-up mailboxes, so a yes of it counts.
}

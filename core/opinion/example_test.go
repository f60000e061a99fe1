package opinion_test

import (
	"fmt"

	"varnet/core/finding"
	"varnet/core/opinion"
)

func ExampleMatrix() {
	theirs, _ := opinion.Guess("valid")
	m := opinion.Matrix{}
	m.Add(theirs, finding.Deliverable, 80)
	m.Add(theirs, finding.Undeliverable, 20)
	fmt.Println(m.Sentence("Gatepost"))
	// Output: Of 100 rows that both looked at, Gatepost and Varnet agree on 80, and contradict each other on 20.
}

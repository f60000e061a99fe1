package pack_test

import (
	"fmt"

	"varnet/internal/store/pack"
)

// The latest results of a part take two bytes an address or less.
func ExampleLatestPart_Pack() {
	p := pack.NewLatestPart()
	for place := range 1000 {
		p.Verdicts[place], p.Batches[place] = 3, 1
	}
	verdicts, batches := p.Pack()
	read, err := pack.ReadLatestPart(verdicts, batches)
	different, counts := read.Counts()
	fmt.Println(different, counts, err)
	// Output:
	// [3] [1000] <nil>
}

package naming_test

import (
	"fmt"

	"varnet/core/naming"
)

func ExampleHabits() {
	h := naming.Habits{}
	for _, known := range [][2]string{{"Ada Moss", "ada.moss"}, {"Bea Quill", "bea.quill"}, {"Cai Fern", "cai.fern"}} {
		h.See("orchard.example", naming.Parse(known[0]), known[1])
	}
	p, follow, of := h.Habit("orchard.example")
	fmt.Printf("%s: %d of %d\n", p, follow, of)
	fmt.Println(naming.Make(p, naming.Parse("Dora Vetch")))
	// Output:
	// first.last: 3 of 3
	// dora.vetch
}

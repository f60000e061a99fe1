package address

import (
	"fmt"
	"slices"
	"testing"
)

func TestSeveral(t *testing.T) {
	for cell, want := range map[string][]string{
		"ada@a.example; bee@b.example":                        {"ada@a.example", "bee@b.example"},
		"ada@a.example,bee@b.example":                         {"ada@a.example", "bee@b.example"},
		"ada@a.example / bee@b.example":                       {"ada@a.example", "bee@b.example"},
		"ada@a.example bee@b.example cid@c.example":           {"ada@a.example", "bee@b.example", "cid@c.example"},
		"Moss, Ada <ada@a.example>; Bee Lark <bee@b.example>": {"Moss, Ada <ada@a.example>", "Bee Lark <bee@b.example>"},
		"ada@a.example\nbee@b.example":                        {"ada@a.example", "bee@b.example"},
		"ada@a.example or bee@b.example":                      {"ada@a.example", "bee@b.example"},
		"ada@a.example":                                       nil,
		`"odd@name"@a.example`:                                nil,
		"ada@@a.example":                                      nil,
		"ada@a.example; @":                                    nil,
		"":                                                    nil,
	} {
		if got := Several(cell); !slices.Equal(got, want) {
			t.Errorf("%q: %q, want %q", cell, got, want)
		}
	}
}

func ExampleNth() {
	const cell = "ada@fernhollow.example; bee@fernhollow.example"
	fmt.Println(Nth(cell, 1))
	fmt.Println(Nth("ada@fernhollow.example", 0))
	// Output:
	// bee@fernhollow.example
	// ada@fernhollow.example
}

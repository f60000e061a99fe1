package pack

import (
	"fmt"
	"math/rand/v2"
	"testing"
)

// TestGrams: a block is never ruled out for a part of a text that it holds, whatever its memory held before, and mostly is for
// an address that it does not hold.
func TestGrams(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 51))
	person := func() string {
		return fmt.Sprintf("%s.%s%d@%s.example", []string{"ada", "ben", "theo", "öda"}[rng.IntN(4)], []string{"moss", "reed", "barleycroft"}[rng.IntN(3)], rng.IntN(100_000), []string{"seed", "barn"}[rng.IntN(2)])
	}
	mayHold := func(b *Block, text string) bool {
		for _, bit := range GramsOf(text) {
			if b.Grams()[bit/8]>>(bit%8)&1 == 0 {
				return false
			}
		}
		return true
	}
	var b Block
	passed := 0
	const blocks, looks = 20, 50
	for range blocks {
		b.Start()
		var texts []string
		for o := int32(1); !b.Full(); o++ {
			r := Row{Ordinal: o, Address: o, Typed: person()}
			texts = append(texts, Searched(r.Typed))
			b.Add(&r)
		}
		for range looks {
			text := texts[rng.IntN(len(texts))]
			from := rng.IntN(len(text))
			if part := text[from : from+1+rng.IntN(len(text)-from)]; !mayHold(&b, part) {
				t.Fatalf("%q is in the block, which is ruled out", part)
			}
			if !mayHold(&b, person()) {
				passed++
			}
		}
	}
	if share := float64(passed) / (blocks * looks); share < 0.9 {
		t.Errorf("of addresses that a block does not hold, %.0f %% are ruled out", 100*share)
	}
	b.Start()
	b.Add(&Row{Ordinal: 1, Address: 1, Typed: "ada@seed.example"})
	if b.Grams() != nil {
		t.Errorf("a small block has %d bytes of grams", len(b.Grams()))
	}
	b.Start()
	for o := range int32(500) {
		b.Add(&Row{Ordinal: o + 1, Address: o + 1, Typed: "xxxxxxxx"})
	}
	set := 0
	for _, one := range b.Grams() {
		if one != 0 {
			set++
		}
	}
	if set != 1 {
		t.Errorf("a block of one sequence has %d, with those of blocks before", set)
	}
}

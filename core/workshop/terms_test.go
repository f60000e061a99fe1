package workshop

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestTerms(t *testing.T) {
	for _, c := range []struct {
		how  How
		term string
		in   []string
		out  []string
	}{
		{AsCell, " Nether Moss ", []string{"nether moss", "NETHER MOSS "}, []string{"Nether Moss Farm", "nethermoss", ""}},
		{AsWord, "Moss", []string{"Ada Moss", "moss, ada", "Ada-Moss"}, []string{"Mossop", "Nethermoss", ""}},
		{AsWord, "van  Dijk", []string{"Jan van Dijk", "jan VAN-dijk"}, []string{"van den Dijk", "Dijk van"}},
		{AsPart, "moss", []string{"Nethermoss", "MOSSop", "moss"}, []string{"mos", "mo ss"}},
		{AsDomain, "*.orchard.example", []string{"orchard.example", "ada@Orchard.Example", "ada@mail.orchard.example", "mail.orchard.example."}, []string{"ada@myorchard.example", "orchard.example.net", "ada@example", "Orchard"}},
		{AsNumber, "+49 (0)30 / 12-34", []string{"+4903012 34", "٤٩٠٣٠١٢٣٤"}, []string{"030 1234", "49030123", ""}},
	} {
		terms, err := NewTerms(c.how, []string{c.term, "", c.term})
		if err != nil || terms.Len() != 1 {
			t.Fatalf("%v: %d terms", err, terms.Len())
		}
		for _, cell := range c.in {
			if !terms.In(cell) {
				t.Errorf("%s %q is not found in %q", c.how, c.term, cell)
			}
		}
		for _, cell := range c.out {
			if terms.In(cell) {
				t.Errorf("%s %q is found in %q", c.how, c.term, cell)
			}
		}
	}
	if _, err := NewTerms("somehow", nil); err == nil {
		t.Error("a way that there is not was taken")
	}
}

// TestAutomaton finds the same as looking for each term by itself.
func TestAutomaton(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	text := func(most int) string {
		b := make([]byte, 1+rng.IntN(most))
		for i := range b {
			b[i] = "abé"[rng.IntN(4)]
		}
		return string(b)
	}
	for range 300 {
		var list []string
		for range 1 + rng.IntN(12) {
			list = append(list, text(5))
		}
		terms, err := NewTerms(AsPart, list)
		if err != nil {
			t.Fatal(err)
		}
		for range 40 {
			cell := text(12)
			want := slices.ContainsFunc(list, func(term string) bool {
				return strings.Contains(strings.ToLower(cell), strings.ToLower(strings.TrimSpace(term)))
			})
			if got := terms.In(cell); got != want {
				t.Fatalf("%q in %q: %v", list, cell, got)
			}
		}
	}
}

// TestStrike: what is struck and what is kept are a partition.
func TestStrike(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	a := random(rng, "members", 80)
	for _, how := range []How{AsCell, AsWord, AsPart, AsDomain, AsNumber} {
		terms, err := NewTerms(how, []string{"ada1", "attic.example", "001", "+1 (0)3", "cell"})
		if err != nil {
			t.Fatal(err)
		}
		for _, columns := range [][]int{nil, {1}, {0, 3}} {
			rest := collect(t, Strike(a, terms, columns, false), nil)
			struck := collect(t, Strike(a, terms, columns, true), nil)
			if len(rest)+len(struck) != len(rowsOf(t, a)) {
				t.Errorf("%s in %v: %d and %d of %d", how, columns, len(rest), len(struck), len(rowsOf(t, a)))
			}
		}
	}
}

// BenchmarkStrike strikes rows by 100,000 terms: the time of a row beside that of reading its
// cells alone.
func BenchmarkStrike(b *testing.B) {
	var list []string
	for n := range 100_000 {
		list = append(list, fmt.Sprintf("person%d", n*7919))
	}
	cells := []string{"FS-00042", "Ada Moss", "ada.moss42@postbarn.example", "2026-03-17", "Nether Moss", "Broad bean"}
	for _, how := range []How{AsCell, AsWord, AsPart, AsDomain, AsNumber} {
		terms, err := NewTerms(how, list)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(string(how), func(b *testing.B) {
			for b.Loop() {
				for _, c := range cells {
					terms.In(c)
				}
			}
		})
	}
}

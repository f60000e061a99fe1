package sheet

import (
	"bytes"
	"testing"
)

func TestRank(t *testing.T) {
	for _, c := range []struct {
		kind  Kind
		cells []string // in order
	}{
		{Kind{Type: Text}, []string{"", "ash", "Birch", "birch tree", "cedar"}},
		{Kind{Type: Number}, []string{"", "none", "-20", "-3.5", "0", "2", "10", "1000"}},
		{Kind{Type: Date, Layout: "02.01.2006"}, []string{" ", "soon", "31.12.1969", "05.03.2024", "01.04.2024"}},
	} {
		for i := 1; i < len(c.cells); i++ {
			a, b := c.kind.Rank(c.cells[i-1]), c.kind.Rank(c.cells[i])
			if bytes.Compare(a[:], b[:]) >= 0 {
				t.Errorf("%s: %q does not come before %q", c.kind.Type, c.cells[i-1], c.cells[i])
			}
		}
	}
}

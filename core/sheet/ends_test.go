package sheet

import (
	"errors"
	"io"
	"strings"
	"testing"
)

// TestMixedLineEnds: each kind of line end ends a record, wherever the reader's buffer
// happens to end, and nothing is lost.
func TestMixedLineEnds(t *testing.T) {
	for _, pad := range []int{0, 1, 65_520, 65_521, 65_522, 65_523, 65_524, 65_525, 65_535, 65_536} {
		text := strings.Repeat("x", pad) + "a@a.example,1\rb@b.example,2\r\nc@c.example,3\n\"d@d.example\",\"4\r5\"\re@e.example,6\r"
		r := NewReader(strings.NewReader(text), Dialect{Delimiter: ",", Quote: `"`})
		var got []string
		all := ""
		for {
			rec, err := r.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				t.Fatal(err)
			}
			all += string(rec.Raw)
			got = append(got, strings.TrimLeft(strings.TrimSpace(string(rec.Raw)), "x"))
		}
		if all != text || len(got) != 5 || got[1] != "b@b.example,2" || got[3] != "\"d@d.example\",\"4\r5\"" {
			t.Errorf("after %d letters: %q", pad, got)
		}
	}
	// A file of nothing but carriage returns takes no longer than another.
	mac := strings.Repeat("somebody@fernhollow.example,1\r", 200_000)
	r := NewReader(strings.NewReader(mac), Dialect{Delimiter: ",", Quote: `"`})
	n := 0
	for ; ; n++ {
		if _, err := r.Next(); err != nil {
			break
		}
	}
	if n != 200_000 {
		t.Errorf("%d records", n)
	}
}

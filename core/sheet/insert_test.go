package sheet

import (
	"slices"
	"testing"
)

func TestInsert(t *testing.T) {
	comma, semicolon, line := Dialect{Delimiter: ",", Quote: `"`, Encoding: UTF8}, Dialect{Delimiter: ";", Quote: `"`, Encoding: Windows1252}, Dialect{Encoding: UTF8}
	new := []string{"keep", `says "no, never"`}
	for _, c := range []struct {
		d         Dialect
		raw, want string
		after     int
	}{
		{comma, "Ada,a@x.example,2019\r\n", "Ada,a@x.example,keep,\"says \"\"no, never\"\"\",2019\r\n", 1},
		{comma, "\"Moss, Ada\" ,\"a@x.example\",\"\"\n", "\"Moss, Ada\" ,\"a@x.example\",keep,\"says \"\"no, never\"\"\",\"\"\n", 1},
		{comma, "Ada\n", "Ada,,keep,\"says \"\"no, never\"\"\"\n", 1},
		{comma, "\ufeffa@x.example", "\ufeffa@x.example,keep,\"says \"\"no, never\"\"\"", 0},
		{semicolon, "B\xe4r;a@x.example\n", "B\xe4r;a@x.example;keep;\"says \"\"no, never\"\"\"\n", 1},
		{line, "a@x.example\n", "a@x.example,keep,says \"no  never\"\n", 0},
	} {
		got := string(c.d.Insert([]byte(c.raw), c.after, new))
		if got != c.want {
			t.Errorf("%q: %q, want %q", c.raw, got, c.want)
		}
		if c.d.Delimiter != "" && len(c.raw) > 5 {
			if cells := c.d.Cells([]byte(got)); cells[c.after+1] != "keep" || cells[c.after+2] != new[1] {
				t.Errorf("%q: read again as %q", c.raw, cells)
			}
		}
	}
	if got := semicolon.Insert([]byte("a@x.example\n"), 0, []string{"„Żółw“"}); !slices.Equal(got, []byte("a@x.example;\x84?\xf3?w\x93\n")) {
		t.Errorf("letters that the encoding lacks: %q", got)
	}
}

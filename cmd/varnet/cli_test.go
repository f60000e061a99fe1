package main

import (
	"io"
	"strings"
	"testing"
)

// TestUse: arguments and settings are held against the usage line of the command.
func TestUse(t *testing.T) {
	for _, c := range []struct{ usage, call, want string }{
		{"", "", ""},
		{"", "more", `unexpected argument "more"`},
		{"LIST", "", "LIST is missing"},
		{"LIST", "12", ""},
		{"LIST", "12 13", `unexpected argument "13"`},
		{"LIST DAYS", "12", "DAYS is missing"},
		{"KIND [NAME…]", "role", ""},
		{"KIND [NAME…]", "role info sales", ""},
		{"KIND NAME…", "role", "NAME is missing"},
		{"[TEXT]", "", ""},
		{"[TEXT]", "post barn", `unexpected argument "barn"`},
		{"RUN -out FILE", "12", "-out FILE is missing"},
		{"RUN -out FILE", "-out kept.csv 12", ""},
		{"RUN -out FILE", "12 -out kept.csv", ""},
		{"RUN [-out FILE]", "12", ""},
		{"ADDRESS…", "-- -out -odd", ""},
		{"ADDRESS…", "-odd", "not defined: -odd"},
	} {
		var said strings.Builder
		cmd := newCLI(command{name: "try", usage: c.usage, does: "tries", example: "varnet try"}, []string{"try"})
		cmd.in, cmd.out, cmd.err = strings.NewReader(""), io.Discard, &said
		cmd.flags.String("out", "", "the file")
		err := cmd.parse(strings.Fields(c.call))
		if (err == nil) != (c.want == "") || !strings.Contains(said.String(), c.want) {
			t.Errorf("try %s with %q: %v, %q; want %q", c.usage, c.call, err, said.String(), c.want)
		}
	}
}

// TestDecodeStrictly: JSON is read as a whole, with fields that there are.
func TestDecodeStrictly(t *testing.T) {
	for text, want := range map[string]string{
		`{"name": "a"}`:            "",
		" {\"name\": \"a\"}\n\n":   "",
		``:                         "it is empty",
		`{"name": "a"`:             "unexpected EOF",
		`{"name": }`:               "at byte 10",
		`{"nam": "a"}`:             `unknown field "nam"`,
		`{"name": "a"}{}`:          "something after its end",
		`{"name": "a"}}`:           "something after its end",
		`{"name": "a"} and so on`:  "something after its end",
		`{"name": {"first": "a"}}`: "cannot unmarshal object",
	} {
		var to struct{ Name string }
		err := decodeStrictly(text, &to)
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

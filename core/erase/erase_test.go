package erase_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"varnet/core/address"
	"varnet/core/erase"
	"varnet/core/sheet"
)

// of erases one address.
func of(identity string) erase.Eraser {
	return erase.Eraser{Gone: func(id string) bool { return id == identity }}
}

func TestText(t *testing.T) {
	e := of("jane.fir@seedling.example")
	for _, text := range []string{
		"jane.fir@seedling.example",
		"Jane.Fir@SEEDLING.example",
		"Jane Fir <jane.fir@seedling.example>, treasurer",
		"550 5.1.1 <jane.fir@seedling.example>: no such user",
		"write to jane.fir@seedling.example.",
		"(jane.fir@seedling.example)",
		"mailto:jane.fir@seedling.example?subject=x",
		"https://seedling.example/?to=jane.fir@seedling.example&x=1",
		"'jane.fir@seedling.example'",
		`{"to":"jane.fir@seedling.example"}`,
		"a@b.example;jane.fir@seedling.example;c@d.example",
		"jane.fir@seedling.example,jane.fir@seedling.example",
		"Frøken jane.fir@seedling.example",
	} {
		out, erased := e.Text(text)
		if !erased || strings.Contains(strings.ToLower(out), "jane.fir@") || !strings.Contains(out, erase.Placeholder) {
			t.Errorf("%q became %q", text, out)
		}
	}
	for _, text := range []string{
		"", "@", "@@", "jane.fir@", "@seedling.example", "jane.fir at seedling.example",
		"joan.jane.fir@seedling.example", "xjane.fir@seedling.example", "éjane.fir@seedling.example",
		"jane.fir@seedling.example.org", "jane.fir@seedling.examples", "jane.fir@my-seedling.example", "jane.fir+news@seedling.example",
		strings.Repeat("@", 10_000), strings.Repeat("a@b.example ", 1000),
	} {
		if out, erased := e.Text(text); erased || out != text {
			t.Errorf("%.60q became %.60q", text, out)
		}
	}
}

func TestSpellings(t *testing.T) {
	e := of("janefir@seedling.example")
	e.Same = func(string) address.Sameness { return address.Sameness{Dots: true, Tags: true} }
	for _, spelled := range []string{"jane.fir+news@seedling.example", "JaneFir@seedling.example", "j.a.n.e.fir@seedling.example"} {
		if !e.Is(spelled) {
			t.Errorf("%s is another mailbox", spelled)
		}
	}
	quoted := of(`"jane fir"@seedling.example`)
	if out, _ := quoted.Text(`to "jane fir"@seedling.example now`); out != "to (erased) now" {
		t.Errorf("quoted: %q", out)
	}
	wide := of("jane@xn--bcher-kva.example")
	if out, _ := wide.Text("an jane@bücher.example geschrieben"); out != "an (erased) geschrieben" {
		t.Errorf("international: %q", out)
	}
}

func TestRow(t *testing.T) {
	comma := sheet.Dialect{Delimiter: ",", Quote: `"`, Encoding: sheet.UTF8}
	line := sheet.Dialect{Encoding: sheet.UTF8}
	latin := sheet.Dialect{Delimiter: ";", Quote: `"`, Encoding: sheet.Windows1252}
	e := of("jane@seedling.example")
	for _, c := range []struct {
		name      string
		dialect   sheet.Dialect
		raw, want string
		columns   []int
		whole     bool
	}{
		{"the address's own row", comma, "7,\"Fir, Jane\",jane@seedling.example,\"a \"\"note\"\"\"\r\n", ",,,\r\n", []int{2}, true},
		{"with a name around it", comma, "Jane <JANE@seedling.example>,x\n", ",\n", []int{0}, true},
		{"one of two in a cell", comma, "a@b.example; jane@seedling.example,x\n", ",\n", []int{0}, true},
		{"the second address column", comma, "a@b.example,jane@seedling.example,x", ",,", []int{0, 1}, true},
		{"a wide at sign", comma, "jane＠seedling.example,x\n", ",\n", []int{0}, true},
		{"somebody else's row", comma, "a@b.example,\"knows jane@seedling.example, too\", x \n", "a@b.example,\"knows (erased), too\", x \n", []int{0}, false},
		{"nobody's", comma, "joan@seedling.example, x ,\"\"\n", "joan@seedling.example, x ,\"\"\n", []int{0}, false},
		{"one a line", line, "jane@seedling.example\n", "\n", []int{0}, true},
		{"without an address", comma, "a,b\n", "a,b\n", []int{0}, false},
		{"another encoding", latin, "M\xfcller;a@b.example;von jane@seedling.example\n", "M\xfcller;a@b.example;von (erased)\n", []int{1}, false},
	} {
		out, whole := e.Row(c.dialect, []byte(c.raw), c.columns, nil)
		if string(out) != c.want || whole != c.whole {
			t.Errorf("%s: %q, %v", c.name, out, whole)
		}
	}
	e.Domains = []string{"seedling.example"}
	for raw, want := range map[string]bool{"1,JANE@Seedling.EXAMPLE\n": true, "1,jane@ｓeedling.example\n": true, "1,jane@seedlings.example\n": false, "1,jane@other.example\n": false} {
		if _, whole := e.Row(comma, []byte(raw), []int{1}, nil); whole != want {
			t.Errorf("%q, by its domain: %v", raw, whole)
		}
	}
	out, _ := e.Row(comma, []byte("Jane,jane@seedling.example,firs@seedling.example\n"), []int{1, 2}, func(c int) string {
		return map[int]string{2: "firs@seedling.example"}[c]
	})
	if string(out) != ",,firs@seedling.example\n" {
		t.Errorf("an address that others have, too: %q", out)
	}
}

// A text never loses more than the address, and what is left holds it no more.
func FuzzText(f *testing.F) {
	for _, s := range []string{"x jane@seedling.example y", `"jane"@seedling.example`, "<jane@seedling.example>", "jane@seedling.example@seedling.example", "=jane@seedling.example."} {
		f.Add(s)
	}
	e := of("jane@seedling.example")
	f.Fuzz(func(t *testing.T, s string) {
		out, erased := e.Text(s)
		if !erased && out != s {
			t.Fatalf("%q became %q and nothing was erased", s, out)
		}
		if again, more := e.Text(out); more {
			t.Fatalf("%q became %q, and that %q", s, out, again)
		}
		if erased {
			parts := strings.Split(out, erase.Placeholder)
			at := 0
			for _, p := range parts {
				i := strings.Index(s[at:], p)
				if i < 0 {
					t.Fatalf("%q became %q: %q is not of it", s, out, p)
				}
				at += i + len(p)
			}
		}
	})
}

func ExampleEraser_Text() {
	gone := []string{"jane@seedling.example"}
	e := erase.Eraser{Gone: func(identity string) bool { return slices.Contains(gone, identity) }}
	fmt.Println(e.Text("550 5.1.1 <Jane@seedling.example>: unknown"))
	// Output: 550 5.1.1 <(erased)>: unknown true
}

// BenchmarkRow reads rows for one address, whose domain is known, and for whatever was erased.
func BenchmarkRow(b *testing.B) {
	d := sheet.Dialect{Delimiter: ",", Quote: `"`, Encoding: sheet.UTF8}
	raw := []byte("FS-00030,Orrin Larkham,orrin.larkham30@postbarn.example,2010-10-24,Bramble Hill,Marigold\n")
	for name, domains := range map[string][]string{"one address": {"seedling.example"}, "whatever was erased": nil} {
		e := of("jane@seedling.example")
		e.Domains = domains
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				e.Row(d, raw, []int{2}, nil)
			}
		})
	}
}

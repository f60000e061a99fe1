package address

import (
	"errors"
	"strings"
	"testing"

	"varnet/core/finding"
)

func TestParse(t *testing.T) {
	for _, c := range []struct{ in, mailbox, canonical string }{
		{"ada@fernhollow.example", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"Ada.Moss@FernHollow.Example", "Ada.Moss@fernhollow.example", "ada.moss@fernhollow.example"},
		{"a+seeds@fernhollow.example", "a+seeds@fernhollow.example", "a+seeds@fernhollow.example"},
		{"o'brien/x=1@fernhollow.example", "o'brien/x=1@fernhollow.example", "o'brien/x=1@fernhollow.example"},
		{`"ada moss"@fernhollow.example`, `"ada moss"@fernhollow.example`, `"ada moss"@fernhollow.example`},
		{`"ada.moss"@fernhollow.example`, "ada.moss@fernhollow.example", "ada.moss@fernhollow.example"},
		{`"a\"b@c"@fernhollow.example`, `"a\"b@c"@fernhollow.example`, `"a\"b@c"@fernhollow.example`},
		{"ada@bücher.example", "ada@xn--bcher-kva.example", "ada@xn--bcher-kva.example"},
		{"ada@XN--BCHER-KVA.example", "ada@xn--bcher-kva.example", "ada@xn--bcher-kva.example"},
		{"jürgen@fernhollow.example", "jürgen@fernhollow.example", "jürgen@fernhollow.example"},
		{"  ada@fernhollow.example\u00a0", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"a\u200bda@fernhollow.example", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"Ada Moss <ada@fernhollow.example>;", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"mailto:ada@fernhollow.example?subject=x", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"'ada@fernhollow.example',", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"(ada@fernhollow.example)", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"ada@fernhollow.example.", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"ada@fernhollow.example; bo@fernhollow.example", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"ada@fernhollow.example, Bo <bo@fernhollow.example>", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"аda@fernhоllow.example", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"ada@сор.example", "ada@xn--n1aeb.example", "ada@xn--n1aeb.example"},
		{"ада@fernhollow.example", "ада@fernhollow.example", "ада@fernhollow.example"},
		{"ada @ fernhollow.example", "ada@fernhollow.example", "ada@fernhollow.example"},
		{"ａｄａ＠fernhollow。example", "ada@fernhollow.example", "ada@fernhollow.example"},
	} {
		a, err := Parse(c.in)
		if err != nil {
			t.Errorf("%q: %v", c.in, err)
			continue
		}
		if a.Mailbox() != c.mailbox || a.Canonical() != c.canonical {
			t.Errorf("%q: got %q (%q), want %q (%q)", c.in, a.Mailbox(), a.Canonical(), c.mailbox, c.canonical)
		}
		if plain := wellFormed(c.in); plain != (len(a.Mended) == 0) && plain {
			t.Errorf("%q: well formed, yet mended: %v", c.in, a.Mended)
		}
	}
}

func TestParseRefuses(t *testing.T) {
	long := strings.Repeat("a", 65)
	for _, c := range []struct {
		in    string
		cause finding.Cause
		pos   int
	}{
		{"", finding.SyntaxMalformed, 0},
		{"nobody", finding.SyntaxMalformed, 0},
		{"@fernhollow.example", finding.SyntaxMalformed, 1},
		{"ada@", finding.SyntaxMalformed, 4},
		{"a..b@fernhollow.example", finding.SyntaxMalformed, 3},
		{".a@fernhollow.example", finding.SyntaxMalformed, 1},
		{"a.@fernhollow.example", finding.SyntaxMalformed, 2},
		{"a b@fernhollow.example", finding.SyntaxMalformed, 2},
		{"ada@moss@fernhollow.example", finding.SyntaxMalformed, 9},
		{"ada\r\nRCPT TO:<x@y.example>@fernhollow.example", finding.SyntaxMalformed, 27},
		{"\"a\r\nDATA\"@fernhollow.example", finding.SyntaxMalformed, 3},
		{"a\x00b@fernhollow.example", finding.SyntaxMalformed, 2},
		{long + "@fernhollow.example", finding.SyntaxTooLong, 0},
		{"ada@" + strings.Repeat("fern.", 49) + "example", finding.SyntaxTooLong, 0},
		{"ada@fernhollow", finding.SyntaxBadDomain, 5},
		{"ada@fern_hollow.example", finding.SyntaxBadDomain, 9},
		{"ada@-fern.example", finding.SyntaxBadDomain, 5},
		{"ada@fern..example", finding.SyntaxBadDomain, 5},
		{"ada@" + strings.Repeat("f", 64) + ".example", finding.SyntaxBadDomain, 5},
		{"ada@192.0.2.1", finding.SyntaxBadDomain, 5},
		{"ada@[192.0.2.1]", finding.SyntaxUnsupported, 5},
		{"\xff\xfe@fernhollow.example", finding.SyntaxMalformed, 0},
	} {
		a, err := Parse(c.in)
		var e *Error
		if !errors.As(err, &e) {
			t.Errorf("%q: taken as %q", c.in, a.Mailbox())
			continue
		}
		if e.Cause != c.cause || e.Position != c.pos {
			t.Errorf("%q: got %s at %d (%s), want %s at %d", c.in, e.Cause, e.Position, e.Reason, c.cause, c.pos)
		}
	}
}

func TestIdentity(t *testing.T) {
	a, err := Parse("Ada.M.Moss+Seeds@postbarn.example")
	if err != nil {
		t.Fatal(err)
	}
	for s, want := range map[Sameness]string{
		{}:                       "ada.m.moss+seeds@postbarn.example",
		{Tags: true}:             "ada.m.moss@postbarn.example",
		{Dots: true}:             "adammoss+seeds@postbarn.example",
		{Dots: true, Tags: true}: "adammoss@postbarn.example",
	} {
		if got := a.Identity(s); got != want || a.Mailbox() != "Ada.M.Moss+Seeds@postbarn.example" {
			t.Errorf("%+v: %s", s, got)
		}
	}
}

// FuzzParse holds what every address must keep: nothing that ends a line or
// cannot be seen reaches a host, lengths are kept, and reading again what was
// read changes nothing.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"ada@fernhollow.example", `"a b"@x.example`, "Ada <a@b.example>", "jürgen@bücher.example", "a@b\r\nQUIT"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		a, err := Parse(s)
		if err != nil {
			var e *Error
			if !errors.As(err, &e) || e.Reason == "" || e.Cause.Stage() != finding.StageSyntax {
				t.Fatalf("%q: %#v", s, err)
			}
			return
		}
		m := a.Mailbox()
		if strings.ContainsAny(m, "\r\n\x00") || len(m) > maxMailbox || len(a.Local) > maxLocal {
			t.Fatalf("%q: unsafe mailbox %q", s, m)
		}
		again, err := Parse(m)
		if err != nil || again.Mailbox() != m || again.Canonical() != a.Canonical() {
			t.Fatalf("%q: %q read again is %q (%v)", s, m, again.Mailbox(), err)
		}
	})
}

func TestLiterals(t *testing.T) {
	for cell, want := range map[string]string{
		"ada@[192.0.2.7]": "ada@[192.0.2.7]", "ada@[ipv6:2001:DB8::1]": "ada@[IPv6:2001:db8::1]",
		"ada@[2001:db8::1]": "", "ada@[IPv6:192.0.2.7]": "", "ada@[192.0.2.256]": "", "ada@[IPv6:fe80::1%eth0]": "",
	} {
		a, err := Grammar{Literals: true}.Parse(cell)
		if want == "" && err == nil || want != "" && (err != nil || a.Mailbox() != want) {
			t.Errorf("%s: %v, %v", cell, a, err)
		}
		if _, err := Parse(cell); err == nil {
			t.Errorf("%s is taken by the usual grammar", cell)
		}
	}
}

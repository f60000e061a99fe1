package outbound

import (
	"strings"
	"testing"

	"varnet/core/smtp"
)

func TestParseLines(t *testing.T) {
	parts, err := ParseLines(Identity, "# ours\nVerify.Fernhollow.example\n\nverify.fernhollow.example <>\nverify.fernhollow.example check@fernhollow.example\n")
	if err != nil || len(parts) != 3 {
		t.Fatalf("%v, %v", parts, err)
	}
	for i, want := range []string{"verify.fernhollow.example <verify@verify.fernhollow.example>", "verify.fernhollow.example <>", "verify.fernhollow.example <check@fernhollow.example>"} {
		if parts[i].Name != want {
			t.Errorf("%q, want %q", parts[i].Name, want)
		}
	}
	for text, want := range map[string]string{
		"one two three":                 "line 1: an identity is an EHLO name and a sender",
		"ok.example\nno name@":          "line 2: the EHLO name \"no\" is not a domain name",
		"a.example nobody":              "the sender \"nobody\" is not an e-mail address",
		"a.example x@y.example\r\nRCPT": "line 2:",
		"# nothing":                     "there is no identity in it",
	} {
		if _, err := ParseLines(Identity, text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
	for line, want := range map[string]string{"192.0.2.53": "192.0.2.53:53", "[2001:db8::53]:5353": "[2001:db8::53]:5353", "2001:db8::53": "[2001:db8::53]:53", "ns.example": ""} {
		p, err := Parse(Resolver, line)
		if want == "" && err == nil || p.Name != want && want != "" {
			t.Errorf("%s: %s, %v", line, p.Name, err)
		}
	}
	if p, err := Parse(Blocklist, "Blocklist.example."); err != nil || p.Name != "blocklist.example" {
		t.Errorf("%v, %v", p, err)
	}
	if _, err := Parse("door", "x"); err == nil {
		t.Error("an unknown kind is taken")
	}
}

func TestJudge(t *testing.T) {
	part := func(k Kind, g Grade) Tested {
		return Tested{Part{Kind: k, Name: string(k) + "-name"}, Outcome{Checks: []Check{{Good, "Well.", ""}, {g, "Says.", "Do " + string(k) + "."}}}}
	}
	good, fair, bad := part(Resolver, Good), part(Identity, Reservation), part(Route, Bad)
	route := part(Route, Good)
	for _, c := range []struct {
		parts []Tested
		state State
		next  string
	}{
		{nil, Untested, "Test it"},
		{[]Tested{good, route}, Ready, ""},
		{[]Tested{good, route, fair}, Wary, "Identity identity-name: Says. Do identity."},
		{[]Tested{good, route, fair, bad}, Wary, "Route route-name: Says. Do route."},
		{[]Tested{good, bad, fair}, NotReady, "Do route."},
		{[]Tested{part(Resolver, Bad), bad}, NotReady, "Do resolver."},
	} {
		got := Judge(c.parts)
		if c.state == Ready {
			got.Next = strings.TrimSpace(got.Next)
		}
		if got.State != c.state || !strings.Contains(got.Next, c.next) || c.next == "" && got.Next != "" || got.Says == "" {
			t.Errorf("%v: %+v", c.parts, got)
		}
	}
	if got := Judge([]Tested{good, bad, route}).Says; !strings.HasPrefix(got, "1 of 1 resolvers can be relied on, 1 of 2 routes reach a mail host.") {
		t.Errorf("it says: %s", got)
	}
}

func TestSees(t *testing.T) {
	say := func(lines ...string) (out []smtp.Line) {
		for _, l := range lines {
			out = append(out, smtp.Line{Host: !strings.HasPrefix(l, "EHLO"), Text: l})
		}
		return out
	}
	for want, lines := range map[string][]smtp.Line{
		"192.0.2.7":   say("220 mx.example", "EHLO x", "250-mx.example at your service, [192.0.2.7]", "250 SIZE"),
		"2001:db8::7": say("220 mx.example (198.51.100.1)", "EHLO x", "250-Hello x [IPv6:2001:db8::7], pleased"),
		"invalid IP":  say("220 mx.example [198.51.100.1]", "EHLO x", "250-mx.example", "250 SIZE 1.2.3.4"),
	} {
		if got := sees(lines); got.String() != want {
			t.Errorf("%v, want %s", got, want)
		}
	}
}

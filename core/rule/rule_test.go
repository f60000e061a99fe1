package rule

import (
	"strings"
	"testing"
	"time"
)

func TestFirst(t *testing.T) {
	rules := []Rule{
		{Of: OfAddress, Pattern: "*.moss@fernhollow.example", Depth: Never},
		{Of: OfDomain, Pattern: "*.example", Depth: "domain"},
		{Of: OfOperator, Pattern: "Provider.test", Depth: "domain"},
	}
	for _, c := range []struct {
		s    Subject
		want int
	}{
		{Subject{"Ada.Moss@fernhollow.example", "fernhollow.example", ""}, 0},
		{Subject{"ada.moss@nether.fernhollow.example", "nether.fernhollow.example", ""}, 1},
		{Subject{"ada@alder.test", "alder.test", "provider.test"}, 2},
		{Subject{"ada@alder.test", "alder.test", ""}, -1},
		{Subject{"ada@example", "example", "x.test"}, -1},
	} {
		if got := First(rules, c.s); got != c.want {
			t.Errorf("%v: rule %d, want %d", c.s, got, c.want)
		}
	}
	for pattern, fits := range map[string]bool{"*": true, "a*c*e": true, "a*cd": false, "abc": false, "*b*d*": true, "a*a": false, "abcde*": true, "**": true} {
		if Like("abcde", pattern) != fits {
			t.Errorf("abcde against %s: %v", pattern, !fits)
		}
	}
}

func TestOpens(t *testing.T) {
	at := func(clock string) time.Time {
		when, err := time.Parse("2006-01-02 15:04", "2026-03-10 "+clock)
		if err != nil {
			t.Fatal(err)
		}
		return when
	}
	night, day := Rule{Hours: "22:00-06:00"}, Rule{Hours: "09:00-17:00", Zone: "Europe/Berlin"}
	for _, c := range []struct {
		rule      Rule
		now, want string
	}{
		{night, "23:00", ""}, {night, "05:59", ""}, {night, "06:00", "2026-03-10T22:00:00Z"}, {night, "12:00", "2026-03-10T22:00:00Z"},
		{day, "08:00", ""}, {day, "07:59", "2026-03-10T08:00:00Z"}, {day, "16:00", "2026-03-11T08:00:00Z"},
	} {
		got, err := c.rule.Opens(at(c.now))
		text := ""
		if !got.IsZero() {
			text = got.UTC().Format(time.RFC3339)
		}
		if err != nil || text != c.want {
			t.Errorf("%s at %s: %s, %v; want %q", c.rule.Hours, c.now, text, err, c.want)
		}
	}
}

func TestCheckNamesTheRemedy(t *testing.T) {
	for want, r := range map[string]Rule{
		"use domain, operator or address":   {Of: "host", Pattern: "x", Lanes: 1},
		"has no pattern":                    {Of: OfDomain, Pattern: " ", Depth: Never},
		"changes nothing":                   {Of: OfDomain, Pattern: "x"},
		"of the form 22:00-06:00":           {Of: OfDomain, Pattern: "x", Hours: "at night"},
		"the zone \"Mars\" is not known":    {Of: OfDomain, Pattern: "x", Hours: "22:00-06:00", Zone: "Mars"},
		"use never, domain or syntax":       {Of: OfDomain, Pattern: "x", Depth: "deep"},
		"more than 8 stars":                 {Of: OfDomain, Pattern: strings.Repeat("*a", 9), Depth: Never},
		"lanes and rests are an operator's": {Of: OfDomain, Pattern: "x", Lanes: 1},
	} {
		if err := r.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", r, err, want)
		}
	}
	good := Rule{Of: OfDomain, Pattern: "*.test", Depth: Never, Note: "they list us"}
	if err := good.Check(); err != nil || good.String() != "Addresses at *.test are never asked about." {
		t.Errorf("%v: %s", err, &good)
	}
}

package workshop

import (
	"testing"

	"varnet/core/catalogue"
)

func TestStatistics(t *testing.T) {
	own := catalogue.With([]catalogue.Entry{{Kind: catalogue.FreeMail, Name: "postbarn.example"}, {Kind: catalogue.Disposable, Name: "onceonly.test"}})
	g := Gathering{Catalogue: own}
	g.Add("postbarn.example", 60, "postbarn.example")
	g.Add("garten.de", 20, "hosting.example")
	g.Add("orchard.co.uk", 10, "hosting.example")
	g.Add("mail.onceonly.test", 7, "")
	g.Add("postbarm.example", 2, "")
	g.Add("seeds.shop", 1, "")
	s := g.Statistics()
	if s.Addresses != 100 || s.Domains != 6 || s.Unknown != 10 || len(s.Largest) != 6 || s.Largest[0].Name != "postbarn.example" {
		t.Errorf("%+v", s)
	}
	if len(s.Operators) != 2 || s.Operators[1].Name != "hosting.example" || s.Operators[1].Addresses != 30 || s.Operators[1].Domains != 2 {
		t.Errorf("operators: %+v", s.Operators)
	}
	traits := map[string]int64{}
	for _, x := range s.Traits {
		traits[x.Name] = x.Addresses
	}
	if traits["free-mail"] != 60 || traits["disposable"] != 7 || traits["typo"] != 2 {
		t.Errorf("traits: %v", traits)
	}
	titles := map[string]string{}
	for _, c := range s.Countries {
		titles[c.Name] = c.Title
	}
	for suffix, want := range map[string]string{"de": "Germany", "uk": "United Kingdom", "example": "reserved (RFC 2606)", "shop": "no country", "test": "reserved (RFC 2606)"} {
		if titles[suffix] != want {
			t.Errorf("%s: %q, want %q", suffix, titles[suffix], want)
		}
	}
	if len(s.Suspicious) != 2 || s.Suspicious[0].Name != "mail.onceonly.test" || s.Suspicious[1].Meant != "postbarn.example" {
		t.Errorf("suspicious: %+v", s.Suspicious)
	}
}

package catalogue

import (
	"math/rand/v2"
	"testing"

	"varnet/core/address"
	"varnet/core/finding"
)

func traits(t *testing.T, c *Catalogue, text string) finding.Traits {
	t.Helper()
	a, err := address.Parse(text)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return c.Traits(a)
}

func TestTraits(t *testing.T) {
	c := Default()
	for text, want := range map[string]finding.Traits{
		"ada.moss@fernhollow.example":  nil,
		"info@fernhollow.example":      {finding.TraitRole},
		"Customer-Service@x.example":   {finding.TraitRole},
		"buchhaltung@x.example":        {finding.TraitRole},
		"no-reply@x.example":           {finding.TraitNoReply},
		"ada@compostbin.example":       {finding.TraitDisposable},
		"ada@inbox.compostbin.example": {finding.TraitDisposable},
		"ada@honeybed.example":         {finding.TraitTrapListed},
		"spam.trap@x.example":          {finding.TraitTrapPattern},
		"ada.moss@postbam.example":     {finding.TraitTrapTypo},
		"ada+seeds@postbarn.example":   {finding.TraitFreeMail, finding.TraitTagged},
		"ada@postbran.example":         {finding.TraitTypo},
		"jürgen@x.example":             {finding.TraitInternational},
		"xkqzvwjtrp@x.example":         {finding.TraitRandomLooking},
		"wolfgangschneider@x.example":  nil,
		"krzysztof@x.example":          nil,
	} {
		got := traits(t, c, text)
		if len(got) != len(want) || len(want) > 0 && got[0] != want[0] || len(want) > 1 && got[1] != want[1] {
			t.Errorf("%s: %v, want %v", text, got, want)
		}
	}
}

func TestOverlay(t *testing.T) {
	c := With([]Entry{{Disposable, "tenminutes.example", false}, {Roles, "info", true}, {Roles, "beekeeper", false}})
	if !traits(t, c, "ada@tenminutes.example").Has(finding.TraitDisposable) || !traits(t, c, "beekeeper@x.example").Has(finding.TraitRole) {
		t.Error("an added entry does not count")
	}
	if traits(t, c, "info@x.example").Has(finding.TraitRole) || !traits(t, Default(), "info@x.example").Has(finding.TraitRole) {
		t.Error("an exception does not count, or counts for everybody")
	}
	for _, e := range []struct {
		kind       Kind
		name, want string
	}{{Disposable, " @Tenminutes.Example ", "tenminutes.example"}, {Roles, "Bee-Keeper", "bee-keeper"}, {NoReplies, "Do.Not-Reply", "donotreply"}, {FreeMail, "bücher.example", "xn--bcher-kva.example"}} {
		if got, err := Normal(e.kind, e.name); err != nil || got != e.want {
			t.Errorf("%s %q: %q, %v", e.kind, e.name, got, err)
		}
	}
	for _, bad := range []Entry{{Disposable, "no dot", false}, {Roles, "a@b.example", false}, {Roles, "", false}} {
		if got, err := Normal(bad.Kind, bad.Name); err == nil {
			t.Errorf("%v was taken as %q", bad, got)
		}
	}
}

func TestExchangersOfDisposableServices(t *testing.T) {
	c := Default()
	if !c.ExchangerTraits([]string{"mx.compostbin.example", "mx2.compostbin.example"}).Has(finding.TraitDisposable) {
		t.Error("a domain served by a disposable service passes")
	}
	for _, other := range [][]string{nil, {"mx.fernhollow.example"}, {"mx.compostbin.example", "mx.fernhollow.example"}} {
		if len(c.ExchangerTraits(other)) > 0 {
			t.Errorf("%v is called disposable", other)
		}
	}
}

func TestSuggest(t *testing.T) {
	c := Default()
	for domain, want := range map[string]string{
		"postbran.example": "postbarn.example", "postbarn.exampl": "postbarn.example", "poostbarn.example": "postbarn.example",
		"postbarx.example": "", "postbarm.example": "postbarn.example", "postbarn.example": "", "fernhollow.example": "", "sostbarn.example": "",
	} {
		if got := c.Suggest(domain); got != want {
			t.Errorf("%s: suggested %q, want %q", domain, got, want)
		}
	}
}

func TestFrequentDomainsOfTheList(t *testing.T) {
	c := Default().Beside([]string{"fernhollow.example", "fernhollo.example"})
	for domain, want := range map[string]string{"fernholow.example": "fernhollow.example", "fernhollow.example": "", "fernhollo.example": ""} {
		if got := c.Suggest(domain); got != want {
			t.Errorf("%s: suggested %q, want %q", domain, got, want)
		}
	}
	if !c.DomainTraits("fernholow.example", nil).Has(finding.TraitTypo) || len(Default().DomainTraits("fernholow.example", nil)) > 0 {
		t.Error("the list's own domains do not count, or count everywhere")
	}
}

// TestRandomLooking holds the model to what it was made for: random strings are
// seen, people are not.
func TestRandomLooking(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	seen := 0
	for range 1000 {
		b := make([]byte, 10)
		for i := range b {
			b[i] = byte('a' + rng.IntN(26))
		}
		if randomLooking(string(b)) {
			seen++
		}
	}
	if seen < 800 {
		t.Errorf("of 1,000 random strings %d are seen", seen)
	}
	var names []string
	for n := range load("names") {
		names = append(names, n)
	}
	for range 100_000 {
		n := names[rng.IntN(len(names))] + names[rng.IntN(len(names))]
		if randomLooking(n) {
			t.Fatalf("%s is called random (%.2f)", n, likeness(n))
		}
	}
}

package odds

import (
	"testing"

	"varnet/core/finding"
	"varnet/core/naming"
)

func TestGather(t *testing.T) {
	h := naming.Habits{}
	for _, p := range [][3]string{{"Ada", "Moss", "ada.moss"}, {"Jan", "Berg", "jan.berg"}, {"Ida", "Fern", "ida.fern"}, {"Ola", "Hay", "ohay"}, {"Una", "Rye", "una.rye"}} {
		h.See("orchard.example", naming.Name{First: p[0], Last: p[1]}, p[2])
	}
	wren := naming.Name{First: "Wren", Last: "Vale"}
	for _, c := range []struct {
		domain, local string
		name          naming.Name
		traits        finding.Traits
		want          Feature
		strength      float64
	}{
		{"orchard.example", "wren.vale", wren, nil, FitsHabit, 0.8},
		{"orchard.example", "wren.vale2", naming.Name{First: "Vale", Last: "Wren"}, nil, OtherPattern, 0.8},
		{"orchard.example", "wvale", wren, nil, OtherPattern, 0.8},
		{"orchard.example", "gardener", wren, nil, NotItsName, 1},
		{"orchard.example", "wren.vale", naming.Name{}, nil, FitsShape, 0.8},
		{"orchard.example", "wvale", naming.Name{}, nil, OtherShape, 0.8},
		{"orchard.example", "info", wren, finding.Traits{finding.TraitRole}, Role, 1},
		{"attic.example", "x7k2q9", wren, finding.Traits{finding.TraitRandomLooking}, Random, 1},
		{"attic.example", "wren.vale", wren, nil, "", 0},
	} {
		f, _, _ := Gather(h, c.domain, c.local, c.name, c.traits)
		if c.want == "" && len(f) == 0 || c.want != "" && f[c.want] == c.strength {
			continue
		}
		t.Errorf("%s@%s of %+v: %v, want %s %v", c.local, c.domain, c.name, f, c.want, c.strength)
	}
}

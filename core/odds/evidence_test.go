package odds

import (
	"testing"

	"varnet/core/finding"
	"varnet/core/naming"
)

func TestFactsOf(t *testing.T) {
	wren := naming.Name{First: "Wren", Last: "Vale"}
	for _, c := range []struct {
		local  string
		name   naming.Name
		traits finding.Traits
		want   Facts
	}{
		{"wren.vale", wren, nil, Facts{Pattern: naming.FirstDotLast, Named: true, Shape: naming.TwoWords}},
		{"wren.vale2", naming.Name{First: "Vale", Last: "Wren"}, nil, Facts{Pattern: naming.LastDotFirst, Named: true, Shape: naming.TwoWords}},
		{"wvale", naming.Name{First: "Wren"}, nil, Facts{Shape: naming.OneWord}},
		{"gardener", wren, nil, Facts{Named: true, Shape: naming.OneWord}},
		{"info", wren, finding.Traits{finding.TraitRole}, Facts{Shape: naming.OneWord, Role: true}},
		{"x7k2q9", naming.Name{}, finding.Traits{finding.TraitRandomLooking}, Facts{Shape: naming.OtherwiseSet, Random: true}},
	} {
		if got := FactsOf(c.local, c.name, c.traits); got != c.want {
			t.Errorf("%s of %+v: %+v, want %+v", c.local, c.name, got, c.want)
		}
	}
}

func TestNeighbours(t *testing.T) {
	n := &Neighbours{}
	n.Add(Facts{Pattern: naming.FirstDotLast, Named: true, Shape: naming.TwoWords}, 4)
	n.Add(Facts{Shape: naming.TwoWords}, 2)
	n.Add(Facts{Shape: naming.OneWord, Role: true}, 9) // it tells nothing of the others
	if p, follow, of := n.Most(); p != naming.FirstDotLast || follow != 4 || of != 4 {
		t.Errorf("most are %q, %d of %d", p, follow, of)
	}
	if n.All() != 6 || n.Patterns[naming.FirstDotLast] != 4 || n.Shapes[naming.TwoWords] != 6 || (*Neighbours)(nil).All() != 0 {
		t.Errorf("%+v", n)
	}
}

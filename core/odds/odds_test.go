package odds

import (
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"varnet/core/finding"
	"varnet/core/naming"
)

// world draws outcomes of catch-all addresses: operators differ, and each domain has a naming
// habit of its own, two, or none. Mailboxes that are there mostly follow it; others are made as
// addresses are made anywhere.
type world struct {
	rng      *rand.Rand
	operator map[string]float64
	habits   map[string][]naming.Pattern
}

func newWorld(seed uint64) *world {
	return &world{rand.New(rand.NewPCG(seed, 25)), map[string]float64{}, map[string][]naming.Pattern{}}
}

var anyPattern = []naming.Pattern{naming.FirstDotLast, naming.FirstDotLast, naming.FirstDotLast, naming.InitialLast, naming.InitialLast, naming.FirstAlone, naming.LastDotFirst,
	naming.FirstUnderscoreLast, naming.InitialDotLast, naming.FirstLast, "", "", ""}

func (w *world) habit(domain string) []naming.Pattern {
	if h, ok := w.habits[domain]; ok {
		return h
	}
	one := func() naming.Pattern { return anyPattern[w.rng.IntN(len(anyPattern)-3)] }
	h := []naming.Pattern{one()}
	switch w.rng.IntN(5) {
	case 0:
		h = append(h, one())
	case 1:
		h = anyPattern
	}
	w.habits[domain] = h
	return h
}

var shapeOf = map[naming.Pattern]naming.Shape{naming.FirstDotLast: naming.TwoWords, naming.LastDotFirst: naming.TwoWords, naming.InitialDotLast: naming.InitialWord, naming.FirstUnderscoreLast: naming.Underscored}

func (w *world) facts(domain string, arrived, named bool) Facts {
	p := anyPattern[w.rng.IntN(len(anyPattern))]
	if h := w.habit(domain); arrived && w.rng.Float64() < 0.9 {
		p = h[w.rng.IntN(len(h))]
	}
	shape := cmp.Or(shapeOf[p], naming.OneWord)
	if !named {
		return Facts{Shape: shape}
	}
	return Facts{Pattern: p, Named: true, Shape: shape}
}

// draw draws outcomes, each compared with the others of its domain: with those that arrived, and
// with all as a list holds them.
func (w *world) draw(n int, operators, domains []string) []Outcome {
	out := make([]Outcome, n)
	known, list := map[string]*Neighbours{}, map[string]*Neighbours{}
	for i := range out {
		o := Outcome{Evidence: Evidence{Operator: operators[w.rng.IntN(len(operators))], Prior: 0.55}}
		o.Domain = domains[w.rng.IntN(len(domains))] + "." + o.Operator
		if _, there := w.operator[o.Operator]; !there {
			w.operator[o.Operator] = 0.7 * w.rng.NormFloat64()
		}
		o.Arrived = w.rng.Float64() < expit(w.operator[o.Operator])
		o.Facts = w.facts(o.Domain, o.Arrived, w.rng.IntN(4) > 0)
		if known[o.Domain] == nil {
			known[o.Domain], list[o.Domain] = &Neighbours{}, &Neighbours{}
		}
		list[o.Domain].Add(o.Facts, 1)
		if o.Arrived {
			known[o.Domain].Add(o.Facts, 1)
		}
		out[i] = o
	}
	for i := range out {
		o := &out[i]
		o.Known, o.List, o.IsKnown = known[o.Domain], list[o.Domain], o.Arrived
	}
	return out
}

func names(prefix string, n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprintf("%s%d", prefix, i))
	}
	return out
}

// TestLearntBeatsTheTable: learnt odds are better than the table and than the base rate, on other
// addresses of the same domains and on unseen domains of the same operators, and off by under 5
// points in each tenth of the scale, over the lists of several worlds.
func TestLearntBeatsTheTable(t *testing.T) {
	operators, domains := names("op", 8), names("d", 25)
	type judged struct{ learnt, base, table Judged }
	judge := map[string]*judged{"the same domains": {}, "unseen domains": {}}
	for seed := range uint64(4) {
		w := newWorld(seed + 1)
		first := w.draw(10_000, operators, domains)
		m := Fit(first)
		before := map[string]*Neighbours{}
		for _, o := range first {
			if before[o.Domain] == nil {
				before[o.Domain] = &Neighbours{}
			}
			if o.Arrived {
				before[o.Domain].Add(o.Facts, 1)
			}
		}
		for _, name := range []string{"the same domains", "unseen domains"} {
			list := domains
			if name != "the same domains" {
				list = names("u", 25)
			}
			fresh, j := w.draw(10_000, operators, list), judge[name]
			rate := 0.0
			for _, o := range fresh {
				if o.Arrived {
					rate += 1 / float64(len(fresh))
				}
			}
			for _, o := range fresh {
				o.Known, o.IsKnown = before[o.Domain], false // what was known before they were sent
				p, _ := m.Odds(o.Evidence)
				j.learnt.Judge(p, o.Arrived)
				j.base.Judge(rate, o.Arrived)
				j.table.Judge(o.Prior, o.Arrived)
			}
		}
	}
	for name, j := range judge {
		t.Logf("%s: Brier %.3f, base rate %.3f, table %.3f; log loss %.3f, %.3f, %.3f", name, j.learnt.Brier, j.base.Brier, j.table.Brier, j.learnt.LogLoss, j.base.LogLoss, j.table.LogLoss)
		if j.learnt.Brier >= j.base.Brier-0.05 || j.learnt.Brier >= j.table.Brier-0.05 || j.learnt.LogLoss >= j.base.LogLoss {
			t.Errorf("%s: learnt %.3f, base rate %.3f, table %.3f", name, j.learnt.Brier, j.base.Brier, j.table.Brier)
		}
		for i, tenth := range j.learnt.Tenths {
			t.Logf("  from %d in 100: %d messages, promised %.0f, arrived %d", 10*i, tenth.Messages, tenth.Promised, tenth.Arrived)
			if tenth.Off() > 5 {
				t.Errorf("%s: of the odds from %d in 100 on, %.1f points are off over %d messages", name, 10*i, tenth.Off(), tenth.Messages)
			}
		}
	}
}

// TestLittleLearnt: what a hundred messages to a few domains have taught makes odds elsewhere, at other
// operators, no worse than those of the table.
func TestLittleLearnt(t *testing.T) {
	var learnt, table Judged
	for seed := range uint64(8) {
		w := newWorld(seed + 1)
		m := Fit(w.draw(120, names("op", 1), names("d", 3)))
		for _, o := range w.draw(1500, names("other", 6), names("u", 10)) {
			o.Known, o.IsKnown = nil, false
			p, _ := m.Odds(o.Evidence)
			learnt.Judge(p, o.Arrived)
			table.Judge(o.Prior, o.Arrived)
		}
	}
	t.Logf("Brier %.3f, table %.3f", learnt.Brier, table.Brier)
	if learnt.Brier > table.Brier {
		t.Errorf("Brier %.3f, of the table %.3f", learnt.Brier, table.Brier)
	}
}

// TestNothingLearnt: without outcomes the odds are those of the table, whatever the evidence.
func TestNothingLearnt(t *testing.T) {
	fives := &Neighbours{map[naming.Pattern]int{naming.FirstDotLast: 5}, map[naming.Shape]int{naming.TwoWords: 5}}
	for _, m := range []*Model{nil, {}, Fit(nil)} {
		for _, prior := range []float64{0.05, 0.55, 0.9} {
			p, factors := m.Odds(Evidence{Domain: "orchard.example", Operator: "hosting.example", Prior: prior, Facts: Facts{Role: true}, Known: fives})
			if p != prior || len(factors) != 0 {
				t.Errorf("%v: %v, %+v", prior, p, factors)
			}
		}
	}
}

// TestFactors: their product is the odds, and their words say what was counted.
func TestFactors(t *testing.T) {
	w := newWorld(2)
	outcomes := w.draw(3000, names("op", 3), names("d", 4))
	m := Fit(outcomes)
	for _, o := range outcomes[:200] {
		p, factors := m.Odds(o.Evidence)
		product := o.Prior
		for _, f := range factors {
			product *= f.Times
			if f.What == "" || !strings.Contains(f.Basis, " of ") || strings.Contains(f.What, "%") {
				t.Fatalf("%+v", f)
			}
		}
		if math.Abs(product-p) > 1e-9 || p <= 0 || p >= 1 {
			t.Fatalf("%v, and the product is %v", p, product)
		}
	}
	e := Evidence{Domain: "d1.op1", Operator: "op1", Prior: 0.55, Facts: Facts{Pattern: naming.LastDotFirst, Named: true, Shape: naming.TwoWords}, Known: &Neighbours{map[naming.Pattern]int{naming.LastDotFirst: 41, "": 3}, map[naming.Shape]int{naming.TwoWords: 44}}}
	fits, factors := m.Odds(e)
	if !slices.ContainsFunc(factors, func(f finding.Factor) bool {
		return f.What == "fits the naming habit of 41 of 44 known mailboxes there (last.first)" && f.Times > 1
	}) {
		t.Errorf("%+v", factors)
	}
	e.Pattern = ""
	other, factors := m.Odds(e)
	if other >= fits || !slices.ContainsFunc(factors, func(f finding.Factor) bool {
		return f.What == "not built from its name, unlike 41 of 44 known mailboxes there" && f.Times < 1
	}) {
		t.Errorf("%v and %v, %+v", fits, other, factors)
	}
}

// TestFitIsSteady: the order of outcomes makes no difference, and neither one outcome nor old
// ones carry far.
func TestFitIsSteady(t *testing.T) {
	w := newWorld(3)
	outcomes := w.draw(800, names("op", 3), names("d", 4))
	e := outcomes[0].Evidence
	p, _ := Fit(outcomes).Odds(e)
	turned := slices.Clone(outcomes)
	slices.Reverse(turned)
	if q, _ := Fit(turned).Odds(e); math.Abs(p-q) > 1e-3 {
		t.Errorf("%v, and in another order %v", p, q)
	}
	one := Outcome{Evidence: Evidence{Domain: "lone.example", Operator: "lone.example", Prior: 0.55}}
	if q, _ := Fit([]Outcome{one}).Odds(one.Evidence); q < 0.3 || q >= 0.55 {
		t.Errorf("one bounce made %v of 0.55", q)
	}
	old, lately := one, one
	old.AgeDays = 5 * 365
	a, _ := Fit([]Outcome{old}).Odds(one.Evidence)
	b, _ := Fit([]Outcome{lately}).Odds(one.Evidence)
	if a <= b {
		t.Errorf("a bounce of five years ago weighs as much as one of today: %v, %v", a, b)
	}
	shared := Outcome{Evidence: Evidence{Domain: "lone.example", Operator: "lone.example", Prior: 0.55}, Arrived: true, Times: 60}
	if q, _ := Fit([]Outcome{shared}).Odds(one.Evidence); q < 0.85 {
		t.Errorf("sixty that arrived made %v", q)
	}
}

package odds

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// world draws outcomes of catch-all addresses: operators and domains differ, and an address that
// fits the habit of its domain is far likelier to be there.
type world struct {
	rng      *rand.Rand
	operator map[string]float64
	domain   map[string]float64
}

func (w *world) draw(n int, operators, domains []string) (out []Outcome) {
	for range n {
		o := Outcome{Evidence: Evidence{Operator: operators[w.rng.IntN(len(operators))], Prior: 0.55, Features: Features{}, Follow: 41, Of: 44}}
		o.Domain = domains[w.rng.IntN(len(domains))] + "." + o.Operator
		for _, of := range []struct {
			effects map[string]float64
			name    string
			wide    float64
		}{{w.operator, o.Operator, 0.7}, {w.domain, o.Domain, 0.5}} {
			if _, there := of.effects[of.name]; !there {
				of.effects[of.name] = of.wide * w.rng.NormFloat64()
			}
		}
		at := logit(0.4) + w.operator[o.Operator] + w.domain[o.Domain]
		switch w.rng.IntN(4) {
		case 0:
			o.Features[FitsHabit] = 0.93
			at += 2
		case 1:
			o.Features[NotItsName] = 1
			at -= 1.5
		case 2:
			o.Features[OtherPattern] = 0.93
			at -= 0.7
		}
		if w.rng.IntN(10) == 0 {
			o.Features[Role] = 1
			at += 0.5
		}
		o.Arrived = w.rng.Float64() < expit(at)
		out = append(out, o)
	}
	return out
}

func names(prefix string, n int) (out []string) {
	for i := range n {
		out = append(out, prefix+string(rune('a'+i)))
	}
	return out
}

// TestLearntBeatsTheTable: learnt odds are better than the table and than the base rate, on other
// addresses of the same domains and on unseen domains of the same operators, and off by under 5
// points in each tenth that holds enough to tell.
func TestLearntBeatsTheTable(t *testing.T) {
	w := &world{rand.New(rand.NewPCG(1, 25)), map[string]float64{}, map[string]float64{}}
	operators, domains := names("op", 8), names("d", 12)
	m := Fit(w.draw(6000, operators, domains))
	for name, list := range map[string][]string{"the same domains": domains, "unseen domains": names("u", 12)} {
		fresh := w.draw(10_000, operators, list)
		rate := 0.0
		for _, o := range fresh {
			if o.Arrived {
				rate += 1 / float64(len(fresh))
			}
		}
		var learnt, base, table Judged
		for _, o := range fresh {
			p, _ := m.Odds(o.Evidence)
			learnt.Judge(p, o.Arrived)
			base.Judge(rate, o.Arrived)
			table.Judge(o.Prior, o.Arrived)
		}
		t.Logf("%s: Brier %.3f, base rate %.3f, table %.3f; log loss %.3f, %.3f, %.3f", name, learnt.Brier, base.Brier, table.Brier, learnt.LogLoss, base.LogLoss, table.LogLoss)
		if learnt.Brier >= base.Brier-0.02 || learnt.Brier >= table.Brier-0.02 || learnt.LogLoss >= base.LogLoss {
			t.Errorf("%s: learnt %.3f, base rate %.3f, table %.3f", name, learnt.Brier, base.Brier, table.Brier)
		}
		for i, tenth := range learnt.Tenths {
			if tenth.Messages > 400 && tenth.Off() > 5 {
				t.Errorf("%s: of the odds from %d in 100 on, %.1f points are off over %d messages", name, 10*i, tenth.Off(), tenth.Messages)
			}
		}
	}
}

// TestNothingLearnt: without outcomes the odds are those of the table, whatever the evidence.
func TestNothingLearnt(t *testing.T) {
	for _, m := range []*Model{nil, {}, Fit(nil)} {
		for _, prior := range []float64{0.05, 0.55, 0.9} {
			p, factors := m.Odds(Evidence{Domain: "orchard.example", Operator: "hosting.example", Prior: prior, Features: Features{FitsHabit: 1, Role: 1}})
			if p != prior || len(factors) != 0 {
				t.Errorf("%v: %v, %+v", prior, p, factors)
			}
		}
	}
}

// TestFactors: their product is the odds, and their words say what was counted.
func TestFactors(t *testing.T) {
	w := &world{rand.New(rand.NewPCG(2, 25)), map[string]float64{}, map[string]float64{}}
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
	_, factors := m.Odds(Evidence{Domain: "da.opa", Operator: "opa", Prior: 0.55, Features: Features{FitsHabit: 0.93}, Follow: 41, Of: 44})
	if !slices.ContainsFunc(factors, func(f Factor) bool {
		return f.What == "made of its name as 41 of 44 known addresses of the domain are" && f.Times > 1
	}) {
		t.Errorf("%+v", factors)
	}
}

// TestFitIsSteady: the order of outcomes makes no difference, and neither one outcome nor old
// ones carry far.
func TestFitIsSteady(t *testing.T) {
	w := &world{rand.New(rand.NewPCG(3, 25)), map[string]float64{}, map[string]float64{}}
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

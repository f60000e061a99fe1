package odds

import (
	"math"
	"slices"
	"strings"
)

// How far each may go from zero, or from what is expected: standard deviations of Gaussian priors,
// in log odds. A domain of which little is known stays near its operator.
const (
	deviationBase     = 1.0
	deviationFeature  = 1.5
	habitWeight       = 0.7
	deviationHabit    = 0.7
	deviationOperator = 0.8
	deviationDomain   = 0.9
)

// expected is what the weight of a feature is believed to be before anything is learnt, and by how much
// that may be wrong. How an address is made beside others of its domain is a likelihood ratio already,
// so that its weight would be 1 if all that it supposes were so; of the others nothing is believed.
func expected(f Feature) (weight, deviation float64) {
	switch f {
	case FitsKnown, FitsList, LooksLikeKnown, LooksLikeList:
		return habitWeight, deviationHabit
	case UnlikeKnown, UnlikeList, LooksOffKnown, LooksOffList:
		return -habitWeight, deviationHabit
	}
	return 0, deviationFeature
}

// halfLife is after how many days an outcome weighs half.
const halfLife = 365.0

// The end of the fitting: so many rounds, or changes under so much.
const (
	mostRounds = 60
	close      = 1e-4
)

// most is how many weights there are: that of the base, and one a feature.
const most = 1 + len(Features)

// example is an outcome made ready.
type example struct {
	x                [most]float64 // the base, then the features
	offset           float64
	domain, operator int
	arrived          float64
	weight           float64
}

// Fit learns from outcomes. The same outcomes, in whatever order, give the same model. Each is
// learnt from as compared with known mailboxes and as compared with its list, with half of its
// weight, so that both are known for domains of which the one or the other is there.
func Fit(outcomes []Outcome) *Model {
	f := fitting{domains: map[string]int{}, operators: map[string]int{}, weights: make([]float64, most), seen: make([]Seen, len(Features))}
	sorted := slices.Clone(outcomes)
	slices.SortStableFunc(sorted, func(a, b Outcome) int { return strings.Compare(a.Domain, b.Domain) })
	bounced := map[string]float64{}
	for i := range sorted {
		o := &sorted[i]
		if o.Times == 0 {
			o.Times = 1
		}
		if !o.Arrived {
			bounced[o.Domain] += o.Times
		}
	}
	for i := range sorted {
		f.usual.add(&sorted[i], bounced[sorted[i].Domain])
	}
	for _, o := range sorted {
		f.add(o)
	}
	if len(outcomes) > 0 { // without any, the odds are those of the table
		f.fit()
	}
	return f.model()
}

type fitting struct {
	examples           []example
	domains, operators map[string]int
	operatorOf         []string // by domain
	seenDomain         []Seen
	seen               []Seen // by feature
	usual              Usual

	weights         []float64 // as an example's x
	domain, operate []float64
	byDomain        [][]int // examples
	byOperator      [][]int
}

func place(places map[string]int, name string) (int, bool) {
	i, there := places[name]
	if !there {
		i = len(places)
		places[name] = i
	}
	return i, !there
}

func (f *fitting) add(o Outcome) {
	e := example{offset: logit(o.Prior), weight: o.Times * math.Exp2(-max(0, o.AgeDays)/halfLife) / 2}
	e.x[0] = 1
	if o.Arrived {
		e.arrived = 1
	}
	var added bool
	if e.operator, added = place(f.operators, o.Operator); added {
		f.byOperator = append(f.byOperator, nil)
	}
	if e.domain, added = place(f.domains, o.Domain); added {
		f.seenDomain, f.byDomain, f.operatorOf = append(f.seenDomain, Seen{}), append(f.byDomain, nil), append(f.operatorOf, o.Operator)
	}
	f.seenDomain[e.domain] = f.seenDomain[e.domain].with(&o)
	counted := map[Feature]bool{}
	for _, known := range []bool{true, false} {
		one := e
		for _, s := range f.usual.signs(o.Evidence, known) {
			i := slices.Index(Features[:], s.Feature)
			if one.x[i+1] = s.strength; !counted[s.Feature] {
				f.seen[i] = f.seen[i].with(&o)
				counted[s.Feature] = true
			}
		}
		at := len(f.examples)
		f.byOperator[one.operator], f.byDomain[one.domain] = append(f.byOperator[one.operator], at), append(f.byDomain[one.domain], at)
		f.examples = append(f.examples, one)
	}
}

// fit finds the most likely weights in turns: those of the base and the features together, then
// each operator, then each domain (Newton's method, each step of which is exact to second order).
func (f *fitting) fit() {
	f.domain, f.operate = make([]float64, len(f.domains)), make([]float64, len(f.operators))
	for range mostRounds {
		change := f.fitWeights()
		for i, of := range f.byOperator {
			change = max(change, f.fitOne(&f.operate[i], of, deviationOperator))
		}
		for i, of := range f.byDomain {
			change = max(change, f.fitOne(&f.domain[i], of, deviationDomain))
		}
		if change < close {
			return
		}
	}
}

// at is the log odds of an example.
func (f *fitting) at(e *example) float64 {
	sum := e.offset + f.operate[e.operator] + f.domain[e.domain]
	for i, w := range f.weights {
		sum += w * e.x[i]
	}
	return sum
}

// fitOne takes a step for a domain or an operator, and returns how far it went.
func (f *fitting) fitOne(shift *float64, of []int, deviation float64) float64 {
	slope, curve := -*shift/(deviation*deviation), 1/(deviation*deviation)
	for _, n := range of {
		e := &f.examples[n]
		p := expit(f.at(e))
		slope += e.weight * (e.arrived - p)
		curve += e.weight * p * (1 - p)
	}
	step := bounded(slope / curve)
	*shift += step
	return math.Abs(step)
}

// bounded keeps a step of Newton's method from going too far where the curve is flat.
func bounded(step float64) float64 { return min(max(step, -1), 1) }

// fitWeights takes a step for the base and the features together, and returns how far it went.
func (f *fitting) fitWeights() float64 {
	n := len(f.weights)
	curve, slope := make([][]float64, n), make([]float64, n)
	for i := range curve {
		curve[i] = make([]float64, n)
		weight, deviation := 0.0, deviationBase
		if i > 0 {
			weight, deviation = expected(Features[i-1])
		}
		curve[i][i] = 1 / (deviation * deviation)
		slope[i] = (weight - f.weights[i]) / (deviation * deviation)
	}
	for k := range f.examples {
		e := &f.examples[k]
		p := expit(f.at(e))
		for i, x := range e.x[:n] {
			if x == 0 {
				continue
			}
			slope[i] += e.weight * (e.arrived - p) * x
			for j, y := range e.x[:i+1] {
				curve[i][j] += e.weight * p * (1 - p) * x * y
			}
		}
	}
	furthest := 0.0
	for i, step := range solve(curve, slope) {
		step = bounded(step)
		f.weights[i] += step
		furthest = max(furthest, math.Abs(step))
	}
	return furthest
}

// solve solves a system of linear equations whose matrix is symmetric and positive (Cholesky); of
// the matrix the lower half is read.
func solve(a [][]float64, b []float64) []float64 {
	n := len(b)
	l := make([][]float64, n)
	for i := range n {
		l[i] = make([]float64, i+1)
		for j := range i + 1 {
			sum := a[i][j]
			for k := range j {
				sum -= l[i][k] * l[j][k]
			}
			if i == j {
				l[i][i] = math.Sqrt(sum)
			} else {
				l[i][j] = sum / l[j][j]
			}
		}
	}
	x := slices.Clone(b)
	for i := range n {
		for k := range i {
			x[i] -= l[i][k] * x[k]
		}
		x[i] /= l[i][i]
	}
	for i := n - 1; i >= 0; i-- {
		for k := i + 1; k < n; k++ {
			x[i] -= l[k][i] * x[k]
		}
		x[i] /= l[i][i]
	}
	return x
}

func (f *fitting) model() *Model {
	m := &Model{Base: f.weights[0], Usual: f.usual, Weights: map[Feature]float64{}, Seen: map[Feature]Seen{}, Operators: map[string]float64{}, Domains: map[string]Effect{}}
	for i, feature := range Features {
		m.Weights[feature], m.Seen[feature] = f.weights[i+1], f.seen[i]
	}
	for name, i := range f.operators {
		m.Operators[name] = f.operate[i]
	}
	for name, i := range f.domains {
		m.Domains[name] = Effect{f.operatorOf[i], f.domain[i], f.seenDomain[i]}
	}
	return m
}

package odds

import (
	"math"
	"slices"
	"strings"
)

// Effect is how far a domain or an operator is from the others, in log odds.
type Effect struct {
	Shift float64
	Seen  Seen
}

// Model is what was learnt. Its zero value, and nil, have learnt nothing.
type Model struct {
	Base      float64 // of all catch-all addresses, beyond the shipped table
	All       Seen
	Weights   map[Feature]float64
	Seen      map[Feature]Seen
	Operators map[string]Effect
	Domains   map[string]Effect
}

// How far each may go from zero: standard deviations of Gaussian priors, in log odds. A domain
// of which little is known stays near its operator.
const (
	deviationBase     = 1.0
	deviationFeature  = 1.5
	deviationOperator = 0.8
	deviationDomain   = 0.9
)

// halfLife is after how many days an outcome weighs half.
const halfLife = 365.0

// The end of the fitting: so many rounds, or changes under so much.
const (
	mostRounds = 60
	close      = 1e-4
)

// example is an outcome made ready.
type example struct {
	x                []float64 // by feature, behind the base
	offset           float64
	domain, operator int
	arrived          float64
	weight           float64
}

// Fit learns from outcomes. The same outcomes, in whatever order, give the same model.
func Fit(outcomes []Outcome) *Model {
	f := fitting{domains: map[string]int{}, operators: map[string]int{}}
	sorted := slices.Clone(outcomes)
	slices.SortStableFunc(sorted, func(a, b Outcome) int { return strings.Compare(a.Domain, b.Domain) })
	for _, o := range sorted {
		f.add(o)
	}
	f.fit()
	return f.model()
}

type fitting struct {
	examples           []example
	domains, operators map[string]int
	seenDomain         []Seen
	seenOperator       []Seen
	all                Seen
	seen               []Seen // by feature

	weights         []float64 // the base, and then the features
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
	times := o.Times
	if times == 0 {
		times = 1
	}
	e := example{x: make([]float64, len(features)+1), offset: logit(o.Prior), weight: times * math.Exp2(-max(0, o.AgeDays)/halfLife)}
	e.x[0] = 1
	if f.seen == nil {
		f.seen = make([]Seen, len(features))
	}
	if o.Arrived {
		e.arrived = 1
	}
	count := func(s *Seen) { s.Arrived, s.Of = s.Arrived+e.arrived*times, s.Of+times }
	for i, feature := range features {
		if e.x[i+1] = o.Features[feature.Feature]; e.x[i+1] != 0 {
			count(&f.seen[i])
		}
	}
	var added bool
	if e.operator, added = place(f.operators, o.Operator); added {
		f.seenOperator, f.byOperator = append(f.seenOperator, Seen{}), append(f.byOperator, nil)
	}
	if e.domain, added = place(f.domains, o.Domain); added {
		f.seenDomain, f.byDomain = append(f.seenDomain, Seen{}), append(f.byDomain, nil)
	}
	count(&f.seenOperator[e.operator])
	count(&f.seenDomain[e.domain])
	count(&f.all)
	at := len(f.examples)
	f.byOperator[e.operator], f.byDomain[e.domain] = append(f.byOperator[e.operator], at), append(f.byDomain[e.domain], at)
	f.examples = append(f.examples, e)
}

// fit finds the most likely weights in turns: those of the base and the features together, then
// each operator, then each domain (Newton's method, each step of which is exact to second order).
func (f *fitting) fit() {
	f.weights = make([]float64, len(features)+1)
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
		deviation := deviationFeature
		if i == 0 {
			deviation = deviationBase
		}
		curve[i][i] = 1 / (deviation * deviation)
		slope[i] = -f.weights[i] / (deviation * deviation)
	}
	for k := range f.examples {
		e := &f.examples[k]
		p := expit(f.at(e))
		for i, x := range e.x {
			if x == 0 {
				continue
			}
			slope[i] += e.weight * (e.arrived - p) * x
			for j, y := range e.x[:i+1] {
				curve[i][j] += e.weight * p * (1 - p) * x * y
			}
		}
	}
	most := 0.0
	for i, step := range solve(curve, slope) {
		step = bounded(step)
		f.weights[i] += step
		most = max(most, math.Abs(step))
	}
	return most
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
	m := &Model{Base: f.weights[0], All: f.all, Weights: map[Feature]float64{}, Seen: map[Feature]Seen{}, Operators: map[string]Effect{}, Domains: map[string]Effect{}}
	for i, feature := range features {
		m.Weights[feature.Feature] = f.weights[i+1]
		if f.seen != nil {
			m.Seen[feature.Feature] = f.seen[i]
		}
	}
	for name, i := range f.operators {
		m.Operators[name] = Effect{f.operate[i], f.seenOperator[i]}
	}
	for name, i := range f.domains {
		m.Domains[name] = Effect{f.domain[i], f.seenDomain[i]}
	}
	return m
}

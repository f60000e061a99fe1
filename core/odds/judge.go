package odds

import "math"

// Judged is a set of odds held against what became of the messages.
type Judged struct {
	Messages int
	Brier    float64 // the mean of the squared differences; smaller is better
	LogLoss  float64
	Tenths   [10]Tenth
}

// Tenth is a tenth of the scale: how many messages had odds in it, what those odds promised
// together, and how many arrived.
type Tenth struct {
	Messages, Arrived int
	Promised          float64
}

// Off is by how many points in 100 the odds of a tenth were off.
func (t Tenth) Off() float64 {
	if t.Messages == 0 {
		return 0
	}
	return 100 * math.Abs(t.Promised-float64(t.Arrived)) / float64(t.Messages)
}

// Judge adds a message with its odds.
func (j *Judged) Judge(p float64, arrived bool) {
	y := 0.0
	if arrived {
		y = 1
	}
	n := float64(j.Messages)
	j.Messages++
	j.Brier = (j.Brier*n + (p-y)*(p-y)) / (n + 1)
	bounded := min(max(p, lowest), highest)
	j.LogLoss = (j.LogLoss*n - y*math.Log(bounded) - (1-y)*math.Log(1-bounded)) / (n + 1)
	t := &j.Tenths[min(int(p*10+1e-9), 9)]
	t.Messages++
	t.Promised += p
	if arrived {
		t.Arrived++
	}
}

// BaseRate returns how good one figure for all messages would have been, the share that arrived.
func BaseRate(arrived, of int) (j Judged) {
	if of == 0 {
		return j
	}
	p := float64(arrived) / float64(of)
	bounded := min(max(p, lowest), highest)
	return Judged{Messages: of, Brier: p * (1 - p), LogLoss: -p*math.Log(bounded) - (1-p)*math.Log(1-bounded)}
}

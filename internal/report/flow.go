package report

import (
	"slices"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
)

// The flow's own measures; renderers scale it.
const (
	flowWidth  = 1200.0
	flowHeight = 200.0
	flowTop    = 8.0
	flowFull   = 132.0 // all addresses
	flowFirst  = 90.0  // the first stage
	flowStep   = 225.0
	flowBend   = 54.0
)

// point is a place in the flow.
type point struct{ X, Y float64 }

// segment is a straight line to its end, or a curve with two guides.
type segment struct {
	Guides []point // none or two
	End    point
}

// shape is a closed outline in one tone; "" is what is not concluded yet.
type shape struct {
	Tone  policy.Decision
	Start point
	Path  []segment
}

// column is a stage with what left there, or the end with what reached it.
type column struct {
	Name  string
	X     float64
	Lines []label
}

// label is a line under the flow; Main ones are totals of a finding.
type label struct {
	Tone policy.Decision
	Main bool
	Text string
}

// flow is the picture of a run: the list flows from left to right through the
// stages, and at each a band leaves, as thick as the addresses it took.
type flow struct {
	Shapes  []shape
	Columns []column
}

var stages = []finding.Stage{finding.StageSyntax, finding.StageDomain, finding.StageExchanger, finding.StageMailbox}

// stageOf is where a cause leaves the flow; a rule counts where it stopped the
// address: before the exchanger.
func stageOf(s finding.Stage) finding.Stage {
	if slices.Contains(stages, s) {
		return s
	}
	return finding.StageExchanger
}

func arrives(f finding.Finding) bool { return f == finding.Deliverable || f == finding.CatchAll }

// thick is a band's thickness: to scale, but never too thin to be seen.
func (r Report) thick(addresses int64) float64 {
	if addresses == 0 {
		return 0
	}
	return max(1.5, float64(addresses)/float64(max(1, r.Addresses))*flowFull)
}

// sum adds up the addresses with a finding; at a stage, or (with "") anywhere.
func (r Report) sum(f finding.Finding, at finding.Stage) (n int64) {
	for _, c := range r.Causes {
		if c.Finding == f && (at == "" || stageOf(c.Stage) == at) {
			n += c.Addresses
		}
	}
	return n
}

// flow lays the picture out: from the top what arrives, what is not concluded,
// then what leaves, the last stage's first, so that no band crosses another.
func (r Report) flow() flow {
	var f flow
	y := flowTop
	box := func(tone policy.Decision, thick float64) {
		if thick > 0 {
			f.Shapes = append(f.Shapes, shape{tone, point{0, y}, lines(point{flowWidth, y}, point{flowWidth, y + thick}, point{0, y + thick})})
		}
		y += thick
	}
	for _, arrived := range []finding.Finding{finding.Deliverable, finding.CatchAll} {
		box(tone(arrived), r.thick(r.sum(arrived, "")))
	}
	box("", r.thick(r.Open))
	for i := len(stages) - 1; i >= 0; i-- {
		leaving := []finding.Finding{finding.Undeliverable, finding.Undecided}
		shift := 0.0
		for _, l := range leaving {
			shift += r.thick(r.sum(l, stages[i])) + 3
		}
		for _, l := range leaving {
			thick := r.thick(r.sum(l, stages[i]))
			if shift -= thick + 3; thick > 0 {
				f.Shapes = append(f.Shapes, leave(tone(l), y, thick, flowFirst+float64(i)*flowStep+shift))
			}
			y += thick
		}
	}
	f.Columns = r.columns()
	return f
}

func lines(to ...point) (path []segment) {
	for _, p := range to {
		path = append(path, segment{End: p})
	}
	return path
}

// leave is a band that turns off the stream at x and goes down.
func leave(tone policy.Decision, y, thick, x float64) shape {
	out := x + flowBend
	return shape{tone, point{0, y}, slices.Concat(
		lines(point{x, y}),
		[]segment{{[]point{{x + flowBend*0.7, y}, {out + thick, y + flowBend*0.4}}, point{out + thick, max(flowHeight, y+thick)}}},
		lines(point{out + thick, flowHeight}, point{out, flowHeight}),
		[]segment{{[]point{{out, y + thick + flowBend*0.4}, {x + flowBend*0.3, y + thick}}, point{x, y + thick}}},
		lines(point{0, y + thick}))}
}

// labelled is how many causes are named under a stage.
const labelled = 3

func (r Report) columns() (out []column) {
	for i, s := range stages {
		c := column{Name: string(s), X: flowFirst + float64(i)*flowStep}
		causes := slices.DeleteFunc(slices.Clone(r.Causes), func(x Cause) bool { return stageOf(x.Stage) != s || arrives(x.Finding) })
		for _, f := range []finding.Finding{finding.Undeliverable, finding.Undecided} {
			if n := r.sum(f, s); n > 0 {
				c.Lines = append(c.Lines, label{tone(f), true, say.Number(n) + " " + string(f)})
			}
		}
		slices.SortStableFunc(causes, func(a, b Cause) int { return int(b.Addresses - a.Addresses) })
		for _, x := range causes[:min(len(causes), labelled)] {
			c.Lines = append(c.Lines, label{Text: say.Number(x.Addresses) + " " + lower(x.Title)})
		}
		if more := len(causes) - labelled; more > 0 {
			c.Lines = append(c.Lines, label{Text: "and " + say.Number(int64(more)) + " more"})
		}
		out = append(out, c)
	}
	end := column{Name: "at the end", X: flowFirst + float64(len(stages))*flowStep}
	for _, f := range []finding.Finding{finding.Deliverable, finding.CatchAll} {
		n := r.sum(f, "")
		end.Lines = append(end.Lines, label{tone(f), true, say.Number(n) + " " + string(f)}, label{Text: Share(n, r.Addresses) + " addresses"})
	}
	if r.Open > 0 {
		end.Lines = append(end.Lines, label{Text: say.Number(r.Open) + " not concluded yet"})
	}
	return append(out, end)
}

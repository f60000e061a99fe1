package report

import (
	"fmt"
	"slices"
	"strings"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
)

// FlowWidth and FlowHeight are the flow's own measures; who draws it scales it.
const (
	FlowWidth  = 1200.0
	FlowHeight = 200.0
)

const (
	flowTop   = 8.0
	flowFull  = 132.0 // all addresses
	flowFirst = 90.0  // the first stage
	flowStep  = 225.0
	flowBend  = 54.0
)

// Flow is the picture of a run: the list flows from left to right through the stages, and
// at each a band leaves, as thick as the addresses it took. It is laid out here alone, for
// the console, both forms of the report and letters.
type Flow struct {
	// Says is the picture in a sentence.
	Says    string
	Shapes  []Shape
	Columns []Column
}

// Shape is a closed outline in one tone; "" is what is not concluded yet.
type Shape struct {
	Tone  policy.Decision
	Start Point
	Path  []Segment
	Of    Chosen
}

// Point is a place in the flow.
type Point struct{ X, Y float64 }

// Segment is a straight line to its end, or a curve with two guides.
type Segment struct {
	Guides []Point // none or two
	End    Point
}

// Column is a stage with what left there, or the end with what reached it.
type Column struct {
	Name  string
	X     float64
	Lines []Label
}

// Label is a line under the flow; Main ones are totals of a finding.
type Label struct {
	Tone policy.Decision
	Main bool
	Text string
	Of   Chosen
}

// Chosen are the results that a shape or a label stands for; the zero value is none.
type Chosen struct {
	Stage   finding.Stage
	Finding finding.Finding
	Cause   finding.Cause
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

// What reaches the end of the flow, and what leaves on the way.
var (
	arrivals   = []finding.Finding{finding.Deliverable, finding.CatchAll}
	departures = []finding.Finding{finding.Undeliverable, finding.Undecided}
)

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

// FlowOf lays out the flow of so many addresses, of which some have no result yet.
func FlowOf(addresses, open int64, causes []Cause) Flow {
	return Report{Addresses: addresses, Open: open, Causes: causes}.Flow()
}

// Flow lays the picture out: from the top what arrives, what is not concluded,
// then what leaves, the last stage's first, so that no band crosses another.
func (r Report) Flow() Flow {
	var f Flow
	y := flowTop
	for _, arrived := range arrivals {
		if thick := r.thick(r.sum(arrived, "")); thick > 0 {
			f.Shapes = append(f.Shapes, Shape{tone(arrived), Point{0, y}, lines(Point{FlowWidth, y}, Point{FlowWidth, y + thick}, Point{0, y + thick}), Chosen{Finding: arrived}})
			y += thick
		}
	}
	if thick := r.thick(r.Open); thick > 0 {
		f.Shapes = append(f.Shapes, Shape{"", Point{0, y}, lines(Point{FlowWidth - 90, y}, Point{FlowWidth - 66, y + thick/2}, Point{FlowWidth - 90, y + thick}, Point{0, y + thick}), Chosen{}})
		y += thick
	}
	for i := len(stages) - 1; i >= 0; i-- {
		shift := 0.0
		for _, l := range departures {
			shift += r.thick(r.sum(l, stages[i])) + 3
		}
		for _, l := range departures {
			thick := r.thick(r.sum(l, stages[i]))
			if shift -= thick + 3; thick > 0 {
				f.Shapes = append(f.Shapes, leave(Chosen{Stage: stages[i], Finding: l}, y, thick, flowFirst+float64(i)*flowStep+shift))
			}
			y += thick
		}
	}
	f.Columns, f.Says = r.columns(), r.flowSays()
	return f
}

// flowSays says the flow in a sentence, for those who do not see it.
func (r Report) flowSays() string {
	var parts []string
	for _, s := range stages {
		left := int64(0)
		for _, f := range departures {
			left += r.sum(f, s)
		}
		parts = append(parts, fmt.Sprintf("%s leave at %s", say.Number(left), s))
	}
	for _, f := range arrivals {
		parts = append(parts, fmt.Sprintf("%s are %s", say.Number(r.sum(f, "")), f))
	}
	return fmt.Sprintf("Of %s %s.", say.Addresses(r.Addresses), say.And(parts...))
}

func lines(to ...Point) (path []Segment) {
	for _, p := range to {
		path = append(path, Segment{End: p})
	}
	return path
}

// leave is a band that turns off the stream at x and goes down.
func leave(of Chosen, y, thick, x float64) Shape {
	out := x + flowBend
	return Shape{tone(of.Finding), Point{0, y}, slices.Concat(
		lines(Point{x, y}),
		[]Segment{{[]Point{{x + flowBend*0.7, y}, {out + thick, y + flowBend*0.4}}, Point{out + thick, max(FlowHeight, y+thick)}}},
		lines(Point{out + thick, FlowHeight}, Point{out, FlowHeight}),
		[]Segment{{[]Point{{out, y + thick + flowBend*0.4}, {x + flowBend*0.3, y + thick}}, Point{x, y + thick}}},
		lines(Point{0, y + thick})), of}
}

// SVG returns the outline as the data of an SVG path.
func (s Shape) SVG() string {
	var b strings.Builder
	fmt.Fprintf(&b, "M%.1f %.1f", s.Start.X, s.Start.Y)
	for _, p := range s.Path {
		if len(p.Guides) == 2 {
			fmt.Fprintf(&b, "C%.1f %.1f %.1f %.1f %.1f %.1f", p.Guides[0].X, p.Guides[0].Y, p.Guides[1].X, p.Guides[1].Y, p.End.X, p.End.Y)
		} else {
			fmt.Fprintf(&b, "L%.1f %.1f", p.End.X, p.End.Y)
		}
	}
	return b.String() + "Z"
}

// labelled is how many causes are named under a stage.
const labelled = 3

func (r Report) columns() (out []Column) {
	for i, s := range stages {
		out = append(out, Column{string(s), flowFirst + float64(i)*flowStep, r.leftAt(s)})
	}
	end := Column{Name: "at the end", X: flowFirst + float64(len(stages))*flowStep}
	for _, f := range arrivals {
		n := r.sum(f, "")
		end.Lines = append(end.Lines, total(n, Chosen{Finding: f}), Label{Text: Share(n, r.Addresses) + " addresses"})
	}
	if r.Open > 0 {
		end.Lines = append(end.Lines, Label{Text: say.Number(r.Open) + " not concluded yet"})
	}
	return append(out, end)
}

func total(n int64, of Chosen) Label {
	return Label{tone(of.Finding), true, say.Number(n) + " " + string(of.Finding), of}
}

// leftAt says what left at a stage: its findings, and the causes with most addresses.
func (r Report) leftAt(s finding.Stage) (out []Label) {
	for _, f := range departures {
		if n := r.sum(f, s); n > 0 {
			out = append(out, total(n, Chosen{Stage: s, Finding: f}))
		}
	}
	causes := slices.DeleteFunc(slices.Clone(r.Causes), func(x Cause) bool { return stageOf(x.Stage) != s || slices.Contains(arrivals, x.Finding) })
	slices.SortStableFunc(causes, func(a, b Cause) int { return int(b.Addresses - a.Addresses) })
	for _, x := range causes[:min(len(causes), labelled)] {
		out = append(out, Label{Text: say.Number(x.Addresses) + " " + lower(x.Title), Of: Chosen{Cause: x.Code}})
	}
	if more := int64(len(causes) - labelled); more > 0 {
		out = append(out, Label{Text: "and " + say.Plural(more, "more cause", "more causes")})
	}
	if len(out) == 0 {
		out = append(out, Label{Text: "nothing left here"})
	}
	return out
}

package pack

import (
	"varnet/core/naming"
	"varnet/core/odds"
	"varnet/core/sheet"
)

// The JSON forms of what is learnt, and of what columns hold.

var _ = keep(func(m sheet.Meaning) meaningForm { return meaningForm(m) }, func(k meaningForm) sheet.Meaning { return sheet.Meaning(k) })

type meaningForm struct {
	Column int         `json:"column"`
	Holds  sheet.Holds `json:"holds"`
	Of     string      `json:"of,omitempty"`
}

var _ = keep(func(n odds.Neighbours) neighboursForm { return neighboursForm(n) }, func(k neighboursForm) odds.Neighbours { return odds.Neighbours(k) })

type neighboursForm struct {
	Patterns map[naming.Pattern]int `json:"patterns,omitempty"`
	Shapes   map[naming.Shape]int   `json:"shapes,omitempty"`
}

var _ = keep(func(m odds.Model) modelForm {
	return modelForm{m.Base, m.Weights, mapped(m.Seen, func(s odds.Seen) seenForm { return seenForm(s) }), m.Operators,
		mapped(m.Domains, func(e odds.Effect) effectForm { return effectForm{e.Operator, e.Shift, seenForm(e.Seen)} }),
		usualForm{m.Usual.Patterns, m.Usual.Shapes, seenForm(m.Usual.Seen), mapped(m.Usual.Operators, func(s odds.Seen) seenForm { return seenForm(s) })}}
}, func(k modelForm) odds.Model {
	return odds.Model{Base: k.Base, Weights: k.Weights, Seen: mapped(k.Seen, func(s seenForm) odds.Seen { return odds.Seen(s) }), Operators: k.Operators,
		Domains: mapped(k.Domains, func(e effectForm) odds.Effect {
			return odds.Effect{Operator: e.Operator, Shift: e.Shift, Seen: odds.Seen(e.Seen)}
		}),
		Usual: odds.Usual{Patterns: k.Usual.Patterns, Shapes: k.Usual.Shapes, Seen: odds.Seen(k.Usual.Seen),
			Operators: mapped(k.Usual.Operators, func(s seenForm) odds.Seen { return odds.Seen(s) })}}
})

type modelForm struct {
	Base      float64                   `json:"base"`
	Weights   map[odds.Feature]float64  `json:"weights"`
	Seen      map[odds.Feature]seenForm `json:"seen"`
	Operators map[string]float64        `json:"operators"`
	Domains   map[string]effectForm     `json:"domains"`
	Usual     usualForm                 `json:"usual"`
}

type effectForm struct {
	Operator string   `json:"operator,omitempty"`
	Shift    float64  `json:"shift"`
	Seen     seenForm `json:"seen"`
}

type seenForm struct {
	Arrived float64 `json:"arrived"`
	Of      float64 `json:"of"`
}

type usualForm struct {
	Patterns  map[naming.Pattern]float64 `json:"patterns"`
	Shapes    map[naming.Shape]float64   `json:"shapes"`
	Seen      seenForm                   `json:"seen"`
	Operators map[string]seenForm        `json:"operators"`
}

// mapped converts what a map holds; nil stays nil.
func mapped[K comparable, A, B any](in map[K]A, convert func(A) B) map[K]B {
	if in == nil {
		return nil
	}
	out := make(map[K]B, len(in))
	for k, v := range in {
		out[k] = convert(v)
	}
	return out
}

package pack

import (
	"time"

	"varnet/core/workshop"
)

// The JSON form of recipes of steps.

var _ = keep(func(r workshop.Recipe) recipeForm {
	return recipeForm(each(r, func(s workshop.Step) stepForm {
		return stepForm{s.Do, s.With, s.By, s.Columns, s.Together, s.Keep, s.Newest, each(s.Aliases, func(a workshop.Alias) aliasForm { return aliasForm(a) }),
			each(s.Conditions, func(c workshop.Condition) conditionForm { return conditionForm(c) }), s.Any, sliceForm(s.Slice), s.Terms, s.TermLists, s.How, s.Found,
			each(s.Changes, func(c workshop.Change) changeForm { return changeForm(c) })}
	}))
}, func(k recipeForm) workshop.Recipe {
	return each(k, func(s stepForm) workshop.Step {
		return workshop.Step{Do: s.Do, With: s.With, By: s.By, Columns: s.Columns, Together: s.Together, Keep: s.Keep, Newest: s.Newest,
			Aliases:    each(s.Aliases, func(a aliasForm) workshop.Alias { return workshop.Alias(a) }),
			Conditions: each(s.Conditions, func(c conditionForm) workshop.Condition { return workshop.Condition(c) }), Any: s.Any, Slice: workshop.Slice(s.Slice),
			Terms: s.Terms, TermLists: s.TermLists, How: s.How, Found: s.Found, Changes: each(s.Changes, func(c changeForm) workshop.Change { return workshop.Change(c) })}
	})
})

type recipeForm []stepForm

type stepForm struct {
	Do         workshop.Do     `json:"do"`
	With       []string        `json:"with,omitempty"`
	By         workshop.By     `json:"by,omitempty"`
	Columns    []string        `json:"columns,omitempty"`
	Together   bool            `json:"together,omitempty"`
	Keep       workshop.Keep   `json:"keep,omitempty"`
	Newest     string          `json:"newest,omitempty"`
	Aliases    []aliasForm     `json:"aliases,omitempty"`
	Conditions []conditionForm `json:"conditions,omitempty"`
	Any        bool            `json:"any,omitempty"`
	Slice      sliceForm       `json:"slice,omitzero"`
	Terms      []string        `json:"terms,omitempty"`
	TermLists  []string        `json:"termLists,omitempty"`
	How        workshop.How    `json:"how,omitempty"`
	Found      bool            `json:"found,omitempty"`
	Changes    []changeForm    `json:"changes,omitempty"`
}

type aliasForm struct {
	Column string `json:"column"`
	As     string `json:"as"`
}

type conditionForm struct {
	Column string        `json:"column,omitempty"`
	Fact   workshop.Fact `json:"fact,omitempty"`
	Test   workshop.Test `json:"test"`
	Values []string      `json:"values,omitempty"`
	Not    bool          `json:"not,omitempty"`
}

type sliceForm struct {
	From   int64  `json:"from,omitempty"`
	To     int64  `json:"to,omitempty"`
	Every  int64  `json:"every,omitempty"`
	Last   int64  `json:"last,omitempty"`
	Sample int64  `json:"sample,omitempty"`
	Seed   uint64 `json:"seed,omitempty"`
}

type changeForm struct {
	Do      workshop.Tidying `json:"do"`
	Columns []string         `json:"columns,omitempty"`
	To      string           `json:"to,omitempty"`
	Rest    string           `json:"rest,omitempty"`
	Find    string           `json:"find,omitempty"`
	Pattern bool             `json:"pattern,omitempty"`
	With    string           `json:"with,omitempty"`
}

var _ = keep(func(s workshop.Splitting) splittingForm { return splittingForm(s) }, func(k splittingForm) workshop.Splitting { return workshop.Splitting(k) })

type splittingForm struct {
	Column string        `json:"column,omitempty"`
	Fact   workshop.Fact `json:"fact,omitempty"`
	Each   int64         `json:"each,omitempty"`
}

// WorkshopReport is what came of a workshop job.
type WorkshopReport struct {
	Rows    int64              `json:"rows"`
	Steps   []WorkshopStepDone `json:"steps,omitempty"`
	Columns []string           `json:"columns,omitempty"`
	From    [][]string         `json:"from,omitempty"`  // the lists that each column comes from
	First   [][]string         `json:"first,omitempty"` // rows
	Parts   []WorkshopPartDone `json:"parts,omitempty"`
}

// WorkshopStepDone is what came of a step.
type WorkshopStepDone struct {
	Says   string  `json:"says"`
	Before int64   `json:"before"`
	Others []int64 `json:"others,omitempty"`
	Rows   int64   `json:"rows"`
}

// WorkshopPartDone is one of the lists of a split.
type WorkshopPartDone struct {
	Value string `json:"value"`
	Rows  int64  `json:"rows"`
}

// ColumnProfile is what the cells of a column are like.
type ColumnProfile struct {
	Column   string       `json:"column"`
	Rows     int64        `json:"rows"`
	Empty    int64        `json:"empty"`
	Distinct int64        `json:"distinct"`
	Exact    bool         `json:"exact"`
	Shortest int          `json:"shortest"`
	Longest  int          `json:"longest"`
	Most     []ValueCount `json:"most,omitempty"`
	Dates    int64        `json:"dates,omitempty"`
	First    time.Time    `json:"first,omitzero"`
	Last     time.Time    `json:"last,omitzero"`
}

// ValueCount is how often a value stands in a column.
type ValueCount struct {
	Value string `json:"value"`
	Rows  int64  `json:"rows"`
}

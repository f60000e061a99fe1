package export

import (
	"context"
	"math/rand/v2"
	"slices"
	"strings"

	"varnet/core/policy"
	"varnet/internal/decide"
	"varnet/internal/store"
)

// filtered reports whether a row fits the filter by the address that decides on
// it. A row without an address fits no filter but the empty one.
func (e *Export) filtered(r *store.OutRow, slot int) bool {
	f := e.options.Filter
	if !e.options.Chooses() {
		return true
	}
	c := r.Cells[slot]
	if len(e.options.Ordinals) > 0 && !slices.Contains(e.options.Ordinals, c.Ordinal) {
		return false
	}
	if c.Verdict == 0 || !f.Fits(e.decider.Verdicts[c.Verdict]) {
		return false
	}
	return (f.Domain == "" || strings.EqualFold(f.Domain, c.Domain)) && (f.Operator == "" || f.Operator == c.Operator) &&
		(f.Search == "" || strings.Contains(strings.ToLower(e.cell(r, slot)), strings.ToLower(strings.TrimSpace(f.Search))))
}

// sampleSeed begins the row of random numbers: a sample is the same each time.
const sampleSeed = 7201

// eachChosen returns the rows that go out in order, each with the address cell
// and the rule that decide on it. Of a sample, decided is how many rows it is
// drawn from: each next row is taken with the chance that keeps all samples of
// that size equally likely.
func (e *Export) eachChosen(ctx context.Context, decided int64, do func(r *store.OutRow, slot int, rule decide.Rule) error) error {
	wants, left := int64(e.options.Sample), decided
	dice, n := rand.New(rand.NewPCG(sampleSeed, 0)), -1
	return e.source.EachRow(ctx, e.decider.Run, e.list, e.with(), func(r *store.OutRow) error {
		slot, rule := e.decider.Row(r)
		if e.options.Decision != allRows && e.decider.Ruling(rule).Decision != policy.Decision(e.options.Decision) || !e.filtered(r, slot) {
			return nil
		}
		if n++; e.options.Every > 1 && n%e.options.Every != 0 {
			return nil
		}
		if e.options.Sample > 0 {
			left = max(0, left-1) // of a run that goes on there may be more by now
			if dice.Int64N(left+1) >= wants {
				return nil
			}
			wants--
		}
		return do(r, slot, rule)
	})
}

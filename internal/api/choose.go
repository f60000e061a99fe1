package api

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"

	"varnet/core/policy"
	"varnet/internal/store"
)

// filtered tells whether a row fits the filter by the address that decides on
// it. A row without an address fits no filter but the empty one.
func (s *shape) filtered(r *store.OutRow, slot int) bool {
	f := s.in.Filter
	if !s.in.Chooses() {
		return true
	}
	c := r.Cells[slot]
	if len(s.in.Addresses) > 0 && !slices.Contains(s.in.Addresses, c.Ordinal) {
		return false
	}
	if c.Verdict == 0 || !f.Fits(s.judge.verdicts[c.Verdict]) {
		return false
	}
	return (f.Domain == "" || strings.EqualFold(f.Domain, c.Domain)) && (f.Operator == "" || f.Operator == c.Operator) &&
		(f.Search == "" || strings.Contains(strings.ToLower(s.cell(r, slot)), strings.ToLower(strings.TrimSpace(f.Search))))
}

// sampleSeed begins the row of random numbers: a sample is the same each time.
const sampleSeed = 7201

// eachChosen gives the rows that go out in order, each with the address cell
// and the rule that decide on it. Of a sample, decided is how many rows it is
// drawn from: each next row is taken with the chance that keeps all samples of
// that size equally likely.
func (a *API) eachChosen(ctx context.Context, s *shape, decided int64, do func(r *store.OutRow, slot, rule int) error) error {
	wants, left := int64(s.in.Sample), decided
	dice, n := rand.New(rand.NewPCG(sampleSeed, 0)), -1
	err := a.store.EachRow(ctx, s.judge.run, s.list, s.with(), func(r *store.OutRow) error {
		slot, rule := s.judge.row(r)
		if s.in.Decision != allRows && s.judge.ruling(rule).Decision != policy.Decision(s.in.Decision) || !s.filtered(r, slot) {
			return nil
		}
		if n++; s.in.Every > 1 && n%s.in.Every != 0 {
			return nil
		}
		if s.in.Sample > 0 {
			left = max(0, left-1) // of a run that goes on there may be more by now
			if dice.Int64N(left+1) >= wants {
				return nil
			}
			wants--
		}
		return do(r, slot, rule)
	})
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

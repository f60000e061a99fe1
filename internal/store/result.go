package store

import (
	"context"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"varnet/core/probe"
	"varnet/internal/store/pack"
)

// Result is one address's result as it stands in a page.
type Result struct {
	Address int32
	Typed   string
	Mailbox *string
	Domain  *string
	Verdict int32
	At      time.Time
}

// ResultFilter chooses results.
type ResultFilter struct {
	// Verdicts are the verdicts wanted; nil for all.
	Verdicts []int32
	// Search is a part of the address cell.
	Search string
	// Domain and Operator are the address's; "" for any.
	Domain, Operator string
	// After is the last address of the page before.
	After int32
	Limit int
}

// matching tells which latest results of a run a filter chooses, its search left out:
// by a mark for each address of the domains wanted, and for each verdict.
type matching struct {
	*Latest
	after    int32
	of       *marks // nil for all
	verdicts map[int32]bool
}

func (s *Store) matching(ctx context.Context, run Run, f ResultFilter) (ok matching, err error) {
	ok, domains, err := s.matchingIn(ctx, run, f)
	if err != nil || domains == nil {
		return ok, err
	}
	return ok, s.keepDomains(ctx, run, &ok, domains)
}

// matchingIn is matching before domains are left out, and the domains that are wanted; nil for all.
func (s *Store) matchingIn(ctx context.Context, run Run, f ResultFilter) (ok matching, domains []string, err error) {
	if ok.Latest, err = s.Latest(ctx, run.ID); err != nil {
		return ok, nil, err
	}
	ok.after = f.After
	if f.Verdicts != nil {
		ok.verdicts = map[int32]bool{}
		for _, v := range f.Verdicts {
			ok.verdicts[v] = true
		}
	}
	if f.Domain == "" && f.Operator == "" {
		return ok, nil, nil
	}
	domains = []string{strings.ToLower(f.Domain)}
	if f.Operator != "" {
		of, err := s.domainsOf(ctx, run.ID, []string{f.Operator})
		if err != nil {
			return ok, nil, err
		}
		if f.Domain == "" {
			domains = sortedKeys(of)
		} else if of[domains[0]] == "" {
			domains = []string{}
		}
	}
	return ok, domains, nil
}

// keepDomains leaves the results of some domains.
func (s *Store) keepDomains(ctx context.Context, run Run, ok *matching, domains []string) error {
	ok.of = &marks{}
	return s.eachOrdinal(ctx, run.ListID, domains, func(_ string, o int32) { ok.of.mark(o) })
}

// has reports whether a result is chosen.
func (ok *matching) has(one Standing) bool {
	return one.Verdict != 0 && one.Address > ok.after && (ok.of == nil || ok.of.has(one.Address)) && (ok.verdicts == nil || ok.verdicts[one.Verdict])
}

// among returns the results of some addresses that are chosen, in the order of the addresses.
func (ok *matching) among(ctx context.Context, addresses []int32) (out []Standing, err error) {
	found, err := ok.Of(ctx, addresses)
	for _, a := range addresses {
		if ok.has(found[a]) {
			out = append(out, found[a])
		}
	}
	return out, err
}

// each calls do for the results after an address that are chosen, until it is false.
func (ok *matching) each(ctx context.Context, after int32, do func(Standing) bool) error {
	return ok.eachIn(ctx, max(after, ok.after), ok.verdicts, ok.of, func(one Standing) bool { return !ok.has(one) || do(one) })
}

// all returns the addresses that are chosen.
func (ok *matching) all(ctx context.Context) (out []int32, err error) {
	err = ok.each(ctx, 0, func(one Standing) bool { out = append(out, one.Address); return true })
	return out, err
}

// Results returns a page of results in the order of the list.
func (s *Store) Results(ctx context.Context, run Run, f ResultFilter) ([]Result, error) {
	if f.Search != "" {
		return s.resultsBySearch(ctx, run, f)
	}
	ok, domains, err := s.matchingIn(ctx, run, f)
	if err != nil {
		return nil, err
	}
	found, err := s.next(ctx, run, ok, domains, f.Limit)
	if err != nil {
		return nil, err
	}
	return s.resultsAt(ctx, run, found)
}

// next returns the next results of some domains; nil: of all. A large domain is read from the page's first address until the
// page is full, more of it at a time where few results are chosen.
func (s *Store) next(ctx context.Context, run Run, ok matching, domains []string, limit int) (out []Standing, err error) {
	for parts := 1; ; parts *= 4 {
		through := int32(math.MaxInt32)
		if domains != nil {
			if ok.of, through, err = s.marksAfter(ctx, run.ListID, domains, ok.after, parts); err != nil {
				return nil, err
			}
		}
		err = ok.each(ctx, ok.after, func(one Standing) bool {
			if one.Address > through {
				return false
			}
			out = append(out, one)
			return len(out) < limit
		})
		if err != nil || len(out) >= limit || through == math.MaxInt32 {
			return out, err
		}
		ok.after = through
	}
}

// ResultsAmong returns the results among some addresses that fit the filter, in
// the order of the list.
func (s *Store) ResultsAmong(ctx context.Context, run Run, f ResultFilter, addresses []int32) ([]Result, error) {
	ok, err := s.matching(ctx, run, f)
	if err != nil {
		return nil, err
	}
	chosen, err := ok.among(ctx, slices.Sorted(slices.Values(addresses)))
	if err != nil {
		return nil, err
	}
	found, err := s.resultsAt(ctx, run, chosen)
	text := pack.Searched(f.Search)
	found = slices.DeleteFunc(found, func(r Result) bool { return !strings.Contains(pack.Searched(r.Typed), text) })
	return found[:min(len(found), f.Limit)], err
}

// ResultCounts counts the results that fit a filter by verdict.
func (s *Store) ResultCounts(ctx context.Context, run Run, f ResultFilter) (map[int32]int64, error) {
	ok, err := s.matching(ctx, run, f)
	if err != nil {
		return nil, err
	}
	if f.Search == "" && ok.of == nil && f.After == 0 {
		counts, err := ok.Counts(ctx)
		if ok.verdicts != nil {
			maps.DeleteFunc(counts, func(verdict int32, _ int64) bool { return !ok.verdicts[verdict] })
		}
		return counts, err
	}
	counts := map[int32]int64{}
	if f.Search == "" {
		err = ok.each(ctx, f.After, func(one Standing) bool { counts[one.Verdict]++; return true })
		return counts, err
	}
	found, err := s.withText(ctx, run.ListID, f.Search)
	if err != nil {
		return nil, err
	}
	of := ok.of
	if ok.of = (&marks{}); len(found) > 0 {
		for _, a := range found {
			if of == nil || of.has(a) {
				ok.of.mark(a)
			}
		}
	}
	err = ok.each(ctx, f.After, func(one Standing) bool { counts[one.Verdict]++; return true })
	return counts, err
}

// resultsAt returns some results with their cells, in their order.
func (s *Store) resultsAt(ctx context.Context, run Run, standing []Standing) ([]Result, error) {
	ordinals, ids := make([]int32, len(standing)), make([]int64, len(standing))
	for i, one := range standing {
		ordinals[i], ids[i] = one.Address, one.Batch
	}
	at, err := s.timesOf(ctx, run.ID, ids)
	if err != nil {
		return nil, err
	}
	cells, err := s.cellsAt(ctx, run.ListID, ordinals, false)
	out := make([]Result, 0, len(ordinals))
	for _, one := range standing {
		if c, ok := cells[one.Address]; ok {
			out = append(out, resultOf(&c, one, at[one.Batch]))
		}
	}
	return out, err
}

// resultOf returns the latest result of a cell.
func resultOf(c *Row, one Standing, at time.Time) Result {
	r := Result{Address: c.Ordinal, Typed: c.Typed, Verdict: one.Verdict, At: at}
	if c.Domain != "" {
		r.Mailbox, r.Domain = &c.Mailbox, &c.Domain
	}
	return r
}

// FullResult is all that is kept of one address's result.
type FullResult struct {
	Result
	Line    int64
	Mended  []string
	Problem *Problem
	Asked   []probe.Asked
}

// FullResult returns all that is kept of one address's result.
func (s *Store) FullResult(ctx context.Context, run Run, address int32) (r FullResult, err error) {
	st, err := s.Latest(ctx, run.ID)
	if err != nil {
		return r, err
	}
	found, err := st.Of(ctx, []int32{address})
	if err != nil {
		return r, err
	}
	one, there := found[address]
	if !there {
		return r, ErrNotFound
	}
	at, err := s.timesOf(ctx, run.ID, []int64{one.Batch})
	if err != nil {
		return r, err
	}
	cells, err := s.cellsAt(ctx, run.ListID, []int32{address}, false)
	if err != nil {
		return r, err
	}
	c := cells[address]
	r = FullResult{Result: resultOf(&c, one, at[one.Batch]), Line: c.Line, Mended: c.Mended, Problem: c.Problem}
	asked, err := s.Asked(ctx, run.ID, st, []int32{address})
	r.Asked = asked[address]
	return r, err
}

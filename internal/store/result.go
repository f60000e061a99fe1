package store

import (
	"context"
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
	places   []bool // nil for all
	verdicts map[int32]bool
}

func (s *Store) matching(ctx context.Context, run Run, f ResultFilter) (ok matching, err error) {
	if ok.Latest, err = s.Latest(ctx, run.ID); err != nil {
		return ok, err
	}
	ok.after = f.After
	if f.Verdicts != nil {
		ok.verdicts = map[int32]bool{}
		for _, v := range f.Verdicts {
			ok.verdicts[v] = true
		}
	}
	if f.Domain == "" && f.Operator == "" {
		return ok, nil
	}
	domains := []string{strings.ToLower(f.Domain)}
	if f.Operator != "" {
		of, err := s.domainsOf(ctx, run.ID, []string{f.Operator})
		if err != nil {
			return ok, err
		}
		if f.Domain == "" {
			domains = sortedKeys(of)
		} else if of[domains[0]] == "" {
			domains = []string{}
		}
	}
	return ok, s.keepDomains(ctx, run, &ok, domains)
}

// keepDomains leaves the results of some domains.
func (s *Store) keepDomains(ctx context.Context, run Run, ok *matching, domains []string) error {
	ok.places = make([]bool, len(ok.Latest.verdicts))
	return s.eachOrdinal(ctx, run.ListID, domains, func(_ string, o int32) {
		if int(o) < len(ok.places) {
			ok.places[o] = true
		}
	})
}

// has reports whether an address with a verdict is chosen.
func (ok *matching) has(address, verdict int32) bool {
	return verdict != 0 && address > ok.after && (ok.places == nil || ok.places[address]) && (ok.verdicts == nil || ok.verdicts[verdict])
}

// among returns those of some addresses that are chosen.
func (ok *matching) among(addresses []int32) (out []int32) {
	for _, a := range addresses {
		if ok.has(a, ok.Verdict(a)) {
			out = append(out, a)
		}
	}
	return out
}

// next returns the next addresses after one that are chosen.
func (ok *matching) next(after int32, limit int) (out []int32) {
	ok.Each(max(after, ok.after), func(address, verdict int32) bool {
		if ok.has(address, verdict) {
			out = append(out, address)
		}
		return len(out) < limit
	})
	return out
}

// Results returns a page of results in the order of the list.
func (s *Store) Results(ctx context.Context, run Run, f ResultFilter) ([]Result, error) {
	ok, err := s.matching(ctx, run, f)
	if err != nil {
		return nil, err
	}
	if f.Search != "" {
		return s.resultsBySearch(ctx, run, f, ok)
	}
	return s.resultsAt(ctx, run, ok.Latest, ok.next(f.After, f.Limit))
}

// ResultsAmong returns the results among some addresses that fit the filter, in
// the order of the list.
func (s *Store) ResultsAmong(ctx context.Context, run Run, f ResultFilter, addresses []int32) ([]Result, error) {
	ok, err := s.matching(ctx, run, f)
	if err != nil {
		return nil, err
	}
	found, err := s.resultsAt(ctx, run, ok.Latest, ok.among(slices.Sorted(slices.Values(addresses))))
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
	counts := map[int32]int64{}
	count := func(address, verdict int32) bool {
		if ok.has(address, verdict) {
			counts[verdict]++
		}
		return true
	}
	if f.Search == "" {
		ok.Each(f.After, count)
		return counts, nil
	}
	found, err := s.withText(ctx, run.ListID, f.Search)
	for _, o := range found {
		count(o, ok.Verdict(o))
	}
	return counts, err
}

// resultsAt returns the results at some ordinals, in their order.
func (s *Store) resultsAt(ctx context.Context, run Run, st *Latest, ordinals []int32) ([]Result, error) {
	cells, err := s.cellsAt(ctx, run.ListID, ordinals, false)
	out := make([]Result, 0, len(ordinals))
	for _, o := range ordinals {
		if c, ok := cells[o]; ok {
			out = append(out, resultOf(&c, st))
		}
	}
	return out, err
}

// resultOf returns the latest result of a cell.
func resultOf(c *Row, st *Latest) Result {
	r := Result{Address: c.Ordinal, Typed: c.Typed, Verdict: st.Verdict(c.Ordinal), At: st.of(c.Ordinal).at}
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
	if st.Verdict(address) == 0 {
		return r, ErrNotFound
	}
	cells, err := s.cellsAt(ctx, run.ListID, []int32{address}, false)
	if err != nil {
		return r, err
	}
	c := cells[address]
	r = FullResult{Result: resultOf(&c, st), Line: c.Line, Mended: c.Mended, Problem: c.Problem}
	asked, err := s.Asked(ctx, run.ID, st, []int32{address})
	r.Asked = asked[address]
	return r, err
}

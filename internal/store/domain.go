package store

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"
)

// DomainVerdicts returns how many addresses of a run have each verdict at some
// domains.
func (s *Store) DomainVerdicts(ctx context.Context, run Run, domains []string) (map[string]map[int32]int64, error) {
	return s.verdictsBy(ctx, run, domains, func(domain string) string { return domain })
}

// OperatorVerdicts returns how many addresses of a run have each verdict at some
// operators.
func (s *Store) OperatorVerdicts(ctx context.Context, run Run, operators []string) (map[string]map[int32]int64, error) {
	of, err := s.domainsOf(ctx, run.ID, operators)
	if err != nil {
		return nil, err
	}
	return s.verdictsBy(ctx, run, sortedKeys(of), func(domain string) string { return of[domain] })
}

// verdictsBy counts the results at some domains of a run, or (nil) at all, by what
// the domains are put under and by verdict; what is put under "" is left out.
func (s *Store) verdictsBy(ctx context.Context, run Run, domains []string, under func(domain string) string) (map[string]map[int32]int64, error) {
	st, err := s.wholeOf(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	out, last, counts := map[string]map[int32]int64{}, "", map[int32]int64{}
	err = s.eachOrdinal(ctx, run.ListID, domains, func(domain string, o int32) {
		if domain != last { // they come one after the other
			name := under(domain)
			if out[name] == nil {
				out[name] = map[int32]int64{}
			}
			last, counts = domain, out[name]
		}
		if v := st.Verdict(o); v != 0 {
			counts[v]++
		}
	})
	delete(out, "")
	maps.DeleteFunc(out, func(_ string, counts map[int32]int64) bool { return len(counts) == 0 })
	return out, err
}

// domainsOf returns the domains of some operators of a run, or (nil) of all, with
// the operator of each.
func (s *Store) domainsOf(ctx context.Context, run int64, operators []string) (map[string]string, error) {
	rows, err := s.db.Query(ctx, "SELECT domain, operator FROM run_domain WHERE run_id = $1 AND ($2::text[] IS NULL OR operator = ANY($2))", run, operators)
	return byKey[string](rows, err)
}

// pattern makes a search text a pattern in which it stands for itself.
func pattern(search string) string {
	if search == "" {
		return ""
	}
	return "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(search) + "%"
}

// Domains returns a page of a list's domains, the largest first, after one of a
// size, whose name has a text in it.
func (s *Store) Domains(ctx context.Context, list int64, search string, after DomainSize, limit int) ([]DomainSize, error) {
	return many[DomainSize](ctx, s.db, `SELECT domain, addresses FROM list_domain
		WHERE list_id = $1 AND ($2 = '' OR (addresses, domain) < ($3, $2)) AND ($4 = '' OR domain ILIKE $4)
		ORDER BY addresses DESC, domain DESC LIMIT $5`, list, after.Domain, after.Addresses, pattern(search), limit)
}

// OperatorSize is an operator of a run's domains, with how many of the list's
// domains and addresses are there.
type OperatorSize struct {
	Operator           string
	Domains, Addresses int64
}

// OperatorSizes returns a page of the operators of a run's domains, the largest
// first, after one of a size, whose name has a text in it.
func (s *Store) OperatorSizes(ctx context.Context, run Run, search string, after OperatorSize, limit int) ([]OperatorSize, error) {
	return many[OperatorSize](ctx, s.db, `SELECT * FROM (
			SELECT r.operator, count(*) AS domains, sum(d.addresses) AS addresses FROM run_domain r
			JOIN list_domain d ON d.list_id = $2 AND d.domain = r.domain
			WHERE r.run_id = $1 AND r.operator <> '' AND ($5 = '' OR r.operator ILIKE $5) GROUP BY 1) o
		WHERE $3 = '' OR (addresses, operator) < ($4, $3) ORDER BY addresses DESC, operator DESC LIMIT $6`,
		run.ID, run.ListID, after.Operator, after.Addresses, pattern(search), limit)
}

// VerdictPair counts addresses by their verdicts in two runs.
type VerdictPair struct {
	From, To  int32
	Addresses int64
}

// Pairs counts the addresses that have a result in both of two runs of a list, by
// their verdicts.
func (s *Store) Pairs(ctx context.Context, from, to int64) (out []VerdictPair, err error) {
	a, b, err := s.twoOf(ctx, from, to)
	if err != nil {
		return nil, err
	}
	counts := map[[2]int32]int64{}
	err = a.Each(ctx, 0, nil, func(was Standing) bool {
		if now := b.Verdict(was.Address); now != 0 {
			counts[[2]int32{was.Verdict, now}]++
		}
		return true
	})
	for pair, n := range counts {
		out = append(out, VerdictPair{pair[0], pair[1], n})
	}
	return out, err
}

// Both counts the addresses that are in both of two lists.
func (s *Store) Both(ctx context.Context, earlier, list int64) (n int64, err error) {
	same, err := s.sameAddresses(ctx, earlier, list)
	for _, to := range same {
		if to != 0 {
			n++
		}
	}
	return n, err
}

// Moved is what became of the addresses of one run in another, which may be of another list.
type Moved struct {
	Pairs []VerdictPair // those that have a result in both
	// Both is how many addresses are in both lists, Before and Now how many in each.
	Both, Before, Now int64
}

// Moves holds the results of a run against those of another, address by address.
func (s *Store) Moves(ctx context.Context, from, to Run) (m Moved, err error) {
	lists, err := s.ListsByNumber(ctx, to.WorkspaceID, []int64{from.ListID, to.ListID})
	if err != nil {
		return m, err
	}
	m.Before, m.Now = lists[from.ListID].Addresses, lists[to.ListID].Addresses
	if from.ListID == to.ListID {
		m.Both = m.Now
		m.Pairs, err = s.Pairs(ctx, from.ID, to.ID)
		return m, err
	}
	counts := map[[2]int32]int64{}
	m.Both, err = s.eachMove(ctx, from, to, func(_, was, is int32) bool {
		counts[[2]int32{was, is}]++
		return true
	})
	for pair, n := range counts {
		m.Pairs = append(m.Pairs, VerdictPair{pair[0], pair[1], n})
	}
	return m, err
}

// eachMove calls do with the addresses that have a result in two runs, until it is false: with
// the address in the later one's list and both verdicts. It returns how many addresses are in
// both lists.
func (s *Store) eachMove(ctx context.Context, from, to Run, do func(address, was, is int32) bool) (both int64, err error) {
	a, b, err := s.twoOf(ctx, from.ID, to.ID)
	if err != nil {
		return 0, err
	}
	if from.ListID == to.ListID {
		return 0, a.Each(ctx, 0, nil, func(was Standing) bool {
			is := b.Verdict(was.Address)
			return is == 0 || do(was.Address, was.Verdict, is)
		})
	}
	before, err := a.Whole(ctx)
	if err != nil {
		return 0, err
	}
	same, err := s.sameAddresses(ctx, from.ListID, to.ListID)
	for earlier, now := range same {
		if now == 0 {
			continue
		}
		both++
		if was, is := before.Verdict(int32(earlier)), b.Verdict(now); was != 0 && is != 0 && !do(now, was, is) {
			break
		}
	}
	return both, err
}

// Ages returns how many results of a run are younger than each of some ages, but not than the one
// before, at a moment, and how many older than all; and how old they are on average.
func (s *Store) Ages(ctx context.Context, run int64, now time.Time, bounds []time.Duration) (counts []int64, mean time.Duration, err error) {
	st, err := s.Latest(ctx, run)
	if err != nil {
		return nil, 0, err
	}
	recordedAt, err := s.recordedAt(ctx, run)
	if err != nil {
		return nil, 0, err
	}
	counts = make([]int64, len(bounds)+1)
	var sum, n float64
	err = st.Each(ctx, 0, nil, func(one Standing) bool {
		age := max(0, now.Sub(recordedAt[one.Batch]))
		at := 0
		for at < len(bounds) && age >= bounds[at] {
			at++
		}
		counts[at]++
		sum, n = sum+age.Seconds(), n+1
		return true
	})
	if n > 0 {
		mean = time.Duration(sum / n * float64(time.Second))
	}
	return counts, mean, err
}

// twoOf returns the latest results of two runs, of the second one whole.
func (s *Store) twoOf(ctx context.Context, from, to int64) (a *Latest, b *Whole, err error) {
	if a, err = s.Latest(ctx, from); err == nil {
		b, err = s.wholeOf(ctx, to)
	}
	return a, b, err
}

// wholeOf returns the latest verdicts of a run, whole.
func (s *Store) wholeOf(ctx context.Context, run int64) (*Whole, error) {
	st, err := s.Latest(ctx, run)
	if err != nil {
		return nil, err
	}
	return st.Whole(ctx)
}

// ChangedResult is an address with another verdict than in another run.
type ChangedResult struct {
	Address  int32
	Typed    string
	From, To int32
}

// ChangedResults returns the first addresses of a run with one of some pairs of verdicts in an
// earlier one and in this.
func (s *Store) ChangedResults(ctx context.Context, from, to Run, pairs []VerdictPair, limit int) ([]ChangedResult, error) {
	wanted := map[[2]int32]bool{}
	for _, p := range pairs {
		wanted[[2]int32{p.From, p.To}] = true
	}
	var found []int32
	before := map[int32]int32{}
	_, err := s.eachMove(ctx, from, to, func(address, was, is int32) bool {
		if wanted[[2]int32{was, is}] {
			found, before[address] = append(found, address), was
		}
		return len(found) < limit
	})
	if err != nil {
		return nil, err
	}
	latest, err := s.Latest(ctx, to.ID)
	if err != nil {
		return nil, err
	}
	slices.Sort(found)
	ok := matching{Latest: latest}
	chosen, err := ok.among(ctx, found)
	if err != nil {
		return nil, err
	}
	results, err := s.resultsAt(ctx, to, chosen)
	out := make([]ChangedResult, len(results))
	for i, r := range results {
		out[i] = ChangedResult{r.Address, r.Typed, before[r.Address], r.Verdict}
	}
	return out, err
}

// RawRow is a row of a list with its record as it was imported.
type RawRow struct {
	Ordinal int32
	Line    int64
	Raw     []byte
}

// RawRows returns rows of a list as they were imported, by their numbers and in
// that order.
func (s *Store) RawRows(ctx context.Context, l List, numbers []int32) ([]RawRow, error) {
	first := func(number int32) int32 { return (number-1)*int32(len(l.AddressColumns)) + 1 }
	var ordinals []int32
	for _, n := range numbers {
		ordinals = append(ordinals, first(n))
	}
	cells, err := s.cellsAt(ctx, l.ID, ordinals, true)
	out := make([]RawRow, 0, len(numbers))
	for _, o := range ordinals {
		if c, ok := cells[o]; ok {
			out = append(out, RawRow{c.Ordinal, c.Line, c.Raw})
		}
	}
	return out, err
}

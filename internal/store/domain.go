package store

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// DomainVerdicts gives how many addresses of a run have each verdict at some
// domains.
func (s *Store) DomainVerdicts(ctx context.Context, run Run, domains []string) (map[string]map[int32]int64, error) {
	rows, err := s.db.Query(ctx, `SELECT d.domain, x.verdict, count(*) FROM list_domain d, unnest(d.ordinals) o
		CROSS JOIN LATERAL (SELECT verdict FROM result WHERE run_id = $1 AND address = o LIMIT 1) x
		WHERE d.list_id = $2 AND d.domain = ANY($3) GROUP BY 1, 2`, run.ID, run.ListID, domains)
	if err != nil {
		return nil, err
	}
	out := map[string]map[int32]int64{}
	var domain string
	var verdict int32
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&domain, &verdict, &n}, func() error {
		if out[domain] == nil {
			out[domain] = map[int32]int64{}
		}
		out[domain][verdict] = n
		return nil
	})
	return out, err
}

// Domains gives a page of a list's domains, the largest first, after one of a
// size, whose name has a text in it.
func (s *Store) Domains(ctx context.Context, list int64, search string, after DomainSize, limit int) ([]DomainSize, error) {
	return many[DomainSize](ctx, s.db, `SELECT domain, addresses FROM list_domain
		WHERE list_id = $1 AND ($2 = '' OR (addresses, domain) < ($3, $2)) AND ($4 = '' OR domain ILIKE $4)
		ORDER BY addresses DESC, domain DESC LIMIT $5`, list, after.Domain, after.Addresses, pattern(search), limit)
}

// VerdictPair counts addresses by their verdicts in two runs.
type VerdictPair struct {
	From, To  int32
	Addresses int64
}

// Pairs counts the addresses that have a result in both of two runs of a list, by
// their verdicts.
func (s *Store) Pairs(ctx context.Context, from, to int64) ([]VerdictPair, error) {
	return many[VerdictPair](ctx, s.db, `SELECT a.verdict AS "from", b.verdict AS "to", count(*) AS addresses
		FROM result a JOIN result b ON b.run_id = $2 AND b.address = a.address WHERE a.run_id = $1 GROUP BY 1, 2`, from, to)
}

// ChangedResult is an address with another verdict than in another run.
type ChangedResult struct {
	Address  int32
	Typed    string
	From, To int32
}

// ChangedResults gives the first addresses of a list with one of some pairs of
// verdicts in two runs.
func (s *Store) ChangedResults(ctx context.Context, list, from, to int64, pairs []VerdictPair, limit int) ([]ChangedResult, error) {
	var a, b []int32
	for _, p := range pairs {
		a, b = append(a, p.From), append(b, p.To)
	}
	return many[ChangedResult](ctx, s.db, `SELECT x.address, r.typed, x.verdict AS "from", y.verdict AS "to"
		FROM result x JOIN result y ON y.run_id = $2 AND y.address = x.address
		JOIN unnest($4::int[], $5::int[]) p(f, t) ON p.f = x.verdict AND p.t = y.verdict
		JOIN list_row r ON r.list_id = $3 AND r.ordinal = x.address
		WHERE x.run_id = $1 ORDER BY x.address LIMIT $6`, from, to, list, a, b, limit)
}

// RawRow is a row of a list with its record as it was brought in.
type RawRow struct {
	Ordinal int32
	Line    int64
	Raw     []byte
}

// RawRows gives rows of a list as they were brought in, by their numbers and in
// that order.
func (s *Store) RawRows(ctx context.Context, l List, numbers []int32) ([]RawRow, error) {
	return many[RawRow](ctx, s.db, `SELECT ordinal, line, raw FROM unnest($2::int[]) WITH ORDINALITY w(n, place)
		JOIN list_row ON list_id = $1 AND ordinal = (n - 1) * $3 + 1 ORDER BY place`, l.ID, numbers, len(l.AddressColumns))
}

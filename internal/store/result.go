package store

import (
	"context"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/core/probe"
)

// Concluded is a result to be recorded.
type Concluded struct {
	Address int32
	Verdict finding.Verdict
	Asked   []probe.Asked
}

// AddResults records results and their tally. It belongs in the transaction
// that marks their parcel done or their planning saved. Results of addresses
// asked again replace those that stood until now.
func (s *Store) AddResults(ctx context.Context, run int64, results []Concluded, again bool) error {
	if len(results) == 0 {
		return nil
	}
	if again {
		if err := s.dropResults(ctx, run, results); err != nil {
			return err
		}
	}
	tally := map[int32]int32{}
	ids := make([]int32, len(results))
	for i, r := range results {
		id, err := s.verdictID(ctx, r.Verdict)
		if err != nil {
			return err
		}
		ids[i] = id
		tally[id]++
	}
	_, err := s.db.CopyFrom(ctx, pgx.Identifier{"result"}, []string{"run_id", "address", "verdict", "evidence"},
		pgx.CopyFromSlice(len(results), func(i int) ([]any, error) {
			return []any{run, results[i].Address, ids[i], storedEvidence{results[i].Asked}}, nil
		}))
	if err != nil {
		return err
	}
	var rows [][]any
	for id, n := range tally {
		rows = append(rows, []any{run, id, n})
	}
	_, err = s.db.CopyFrom(ctx, pgx.Identifier{"tally"}, []string{"run_id", "verdict", "addresses"}, pgx.CopyFromRows(rows))
	return err
}

// dropResults takes the standing results of addresses away, and from the tally.
func (s *Store) dropResults(ctx context.Context, run int64, results []Concluded) error {
	addresses := make([]int32, len(results))
	for i, r := range results {
		addresses[i] = r.Address
	}
	_, err := s.db.Exec(ctx, `
		WITH gone AS (DELETE FROM result WHERE run_id = $1 AND address = ANY($2) RETURNING verdict)
		INSERT INTO tally (run_id, verdict, addresses) SELECT $1, verdict, -count(*) FROM gone GROUP BY verdict`, run, addresses)
	return err
}

// storedEvidence is the part of the evidence that each result has of its own;
// the rest is kept once per parcel and once per domain.
type storedEvidence struct {
	Asked []probe.Asked `json:"asked,omitempty"`
}

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

// Results gives a page of results in the order of the list.
func (s *Store) Results(ctx context.Context, run Run, f ResultFilter) ([]Result, error) {
	if f.Search == "" && f.Domain == "" && f.Operator == "" {
		return s.resultsByVerdict(ctx, run, f)
	}
	if f.Domain != "" || f.Operator != "" {
		return s.resultsByDomain(ctx, run, f)
	}
	return s.resultsBySearch(ctx, run, f)
}

// resultsByDomain goes through the ordinals of the domain, or of the operator's
// domains, until the page is full.
func (s *Store) resultsByDomain(ctx context.Context, run Run, f ResultFilter) ([]Result, error) {
	return many[Result](ctx, s.db, `
		SELECT x.address, r.typed, r.mailbox, r.domain, x.verdict, x.at
		FROM (SELECT o FROM list_domain d, unnest(d.ordinals) o WHERE d.list_id = $2 AND o > $3 AND ($7 = '' OR d.domain = lower($7))
			AND ($8 = '' OR d.domain IN (SELECT domain FROM run_domain WHERE run_id = $1 AND operator = $8)) ORDER BY o) q
		CROSS JOIN LATERAL (SELECT address, verdict, at FROM result
			WHERE run_id = $1 AND address = q.o AND ($4::int[] IS NULL OR verdict = ANY($4)) LIMIT 1) x
		CROSS JOIN LATERAL (SELECT r.typed, `+mailbox+`, r.domain FROM list_row r
			WHERE r.list_id = $2 AND r.ordinal = q.o AND ($5 = '' OR r.typed ILIKE $5) LIMIT 1) r
		ORDER BY q.o LIMIT $6`, run.ID, run.ListID, f.After, f.Verdicts, pattern(f.Search), f.Limit, f.Domain, f.Operator)
}

// resultsByVerdict takes the next results of each verdict from its index, and of
// those the first: however many results there are, it reads a page of each.
func (s *Store) resultsByVerdict(ctx context.Context, run Run, f ResultFilter) ([]Result, error) {
	next := "SELECT address, verdict, at FROM result WHERE run_id = $1 AND address > $3 ORDER BY address LIMIT $4"
	args := []any{run.ID, run.ListID, f.After, f.Limit}
	if f.Verdicts != nil {
		args = append(args, f.Verdicts)
		next = `SELECT x.* FROM unnest($5::int[]) v CROSS JOIN LATERAL (SELECT address, verdict, at FROM result
			WHERE run_id = $1 AND verdict = v AND address > $3 ORDER BY address LIMIT $4) x ORDER BY address LIMIT $4`
	}
	return many[Result](ctx, s.db, `SELECT x.address, r.typed, r.mailbox, r.domain, x.verdict, x.at FROM (`+next+`) x
		CROSS JOIN LATERAL (SELECT r.typed, `+mailbox+`, r.domain FROM list_row r WHERE r.list_id = $2 AND r.ordinal = x.address LIMIT 1) r
		ORDER BY x.address`, args...)
}

// pattern makes a search text a pattern in which it stands for itself.
func pattern(search string) string {
	if search == "" {
		return ""
	}
	return "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(search) + "%"
}

// FullResult is all that is kept of one address's result.
type FullResult struct {
	Result
	Line     int64
	Mended   []string
	Problem  *Problem
	Evidence storedEvidence
}

// FullResult gives all that is kept of one address's result.
func (s *Store) FullResult(ctx context.Context, run Run, address int32) (FullResult, error) {
	return one[FullResult](ctx, s.db, `
		SELECT x.address, r.typed, `+mailbox+`, r.domain, x.verdict, x.at, r.line, coalesce(r.mended, '{}') AS mended, r.problem, x.evidence
		FROM result x JOIN list_row r ON r.list_id = $2 AND r.ordinal = x.address
		WHERE x.run_id = $1 AND x.address = $3`, run.ID, run.ListID, address)
}

package store

import "context"

// Place is a domain or an operator with its addresses in a run.
type Place struct {
	Name        string
	Addresses   int64
	Deliverable int64 // those with one of the verdicts asked for
}

// DomainPlaces gives the domains of a run's concluded addresses, the largest first.
func (s *Store) DomainPlaces(ctx context.Context, run Run, deliverable []int32, limit int) ([]Place, error) {
	return many[Place](ctx, s.db, `SELECT r.domain AS name, count(*) AS addresses, count(*) FILTER (WHERE x.verdict = ANY($3)) AS deliverable
		FROM result x JOIN list_row r ON r.list_id = $2 AND r.ordinal = x.address
		WHERE x.run_id = $1 AND r.domain IS NOT NULL GROUP BY 1 ORDER BY 2 DESC, 1 LIMIT $4`, run.ID, run.ListID, deliverable, limit)
}

// OperatorPlaces gives the operators of a run's concluded addresses, the largest
// first.
func (s *Store) OperatorPlaces(ctx context.Context, run Run, deliverable []int32, limit int) ([]Place, error) {
	return many[Place](ctx, s.db, `SELECT d.operator AS name, count(*) AS addresses, count(*) FILTER (WHERE x.verdict = ANY($3)) AS deliverable
		FROM result x JOIN list_row r ON r.list_id = $2 AND r.ordinal = x.address JOIN run_domain d ON d.run_id = $1 AND d.domain = r.domain
		WHERE x.run_id = $1 AND d.operator <> '' GROUP BY 1 ORDER BY 2 DESC, 1 LIMIT $4`, run.ID, run.ListID, deliverable, limit)
}

// Change is how many addresses have another verdict than in the run before.
type Change struct {
	Before, Now int32
	Addresses   int64
}

// Changes compares two runs of one list.
func (s *Store) Changes(ctx context.Context, before, now int64) ([]Change, error) {
	return many[Change](ctx, s.db, `SELECT b.verdict AS before, n.verdict AS now, count(*) AS addresses
		FROM result b JOIN result n ON n.run_id = $2 AND n.address = b.address
		WHERE b.run_id = $1 AND b.verdict <> n.verdict GROUP BY 1, 2`, before, now)
}

// Sessions counts the conversations with mail hosts in a run.
func (s *Store) Sessions(ctx context.Context, run int64) (n int64, err error) {
	err = s.db.QueryRow(ctx, `SELECT coalesce(sum(jsonb_array_length(record->'conversations')), 0) FROM parcel
		WHERE run_id = $1 AND jsonb_typeof(record->'conversations') = 'array'`, run).Scan(&n)
	return n, err
}

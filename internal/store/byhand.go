package store

import (
	"context"

	"github.com/jackc/pgx/v5"

	"varnet/core/policy"
)

// ByHand is what somebody decided about an address of a list.
type ByHand struct {
	Address  int32
	Decision policy.Decision
	// Verdict is what a run found of it, 0: nothing yet.
	Verdict int32
}

// ByHand gives what was decided by hand about the addresses of a run's list.
func (s *Store) ByHand(ctx context.Context, run Run) ([]ByHand, error) {
	return many[ByHand](ctx, s.db, `SELECT h.address, h.decision, coalesce(x.verdict, 0) AS verdict
		FROM by_hand h LEFT JOIN result x ON x.run_id = $1 AND x.address = h.address WHERE h.list_id = $2 ORDER BY h.address`, run.ID, run.ListID)
}

// DecideByHand decides about addresses of a list, whatever the policy says; ""
// leaves them to the policy again. It gives about how many.
func (s *Store) DecideByHand(ctx context.Context, list int64, addresses []int32, d policy.Decision) (int64, error) {
	if d == "" {
		tag, err := s.db.Exec(ctx, "DELETE FROM by_hand WHERE list_id = $1 AND address = ANY($2)", list, addresses)
		return tag.RowsAffected(), err
	}
	tag, err := s.db.Exec(ctx, `INSERT INTO by_hand (list_id, address, decision)
		SELECT DISTINCT list_id, ordinal, $3 FROM list_row WHERE list_id = $1 AND ordinal = ANY($2) AND address = ordinal
		ON CONFLICT (list_id, address) DO UPDATE SET decision = EXCLUDED.decision, at = now()`, list, addresses, string(d))
	return tag.RowsAffected(), err
}

// Numbers gives the numbers in a list of those mailboxes that stand in it. It goes
// through the list's rows.
func (s *Store) Numbers(ctx context.Context, list int64, mailboxes []string) ([]int32, error) {
	if len(mailboxes) == 0 {
		return nil, nil
	}
	rows, err := s.db.Query(ctx, `SELECT ordinal FROM list_row WHERE list_id = $1 AND address = ordinal AND domain IS NOT NULL
		AND coalesce(mailbox, typed) = ANY($2)`, list, mailboxes)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int32])
}

// ResultsAmong gives the results among some addresses that fit the filter, in
// the order of the list.
func (s *Store) ResultsAmong(ctx context.Context, run Run, f ResultFilter, addresses []int32) ([]Result, error) {
	return many[Result](ctx, s.db, `
		SELECT x.address, r.typed, `+mailbox+`, r.domain, x.verdict, x.at
		FROM result x JOIN list_row r ON r.list_id = $2 AND r.ordinal = x.address
		WHERE x.run_id = $1 AND x.address = ANY($3) AND x.address > $4 AND ($5::int[] IS NULL OR x.verdict = ANY($5))
		AND ($6 = '' OR r.typed ILIKE $6) AND ($7 = '' OR r.domain = lower($7))
		AND ($8 = '' OR r.domain IN (SELECT domain FROM run_domain WHERE run_id = $1 AND operator = $8))
		ORDER BY x.address LIMIT $9`, run.ID, run.ListID, addresses, f.After, f.Verdicts, pattern(f.Search), f.Domain, f.Operator, f.Limit)
}

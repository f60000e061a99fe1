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
	decided, err := many[ByHand](ctx, s.db, "SELECT address, decision, 0 AS verdict FROM by_hand WHERE list_id = $1 ORDER BY address", run.ListID)
	if err != nil || len(decided) == 0 {
		return decided, err
	}
	st, err := s.Standing(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	for i := range decided {
		decided[i].Verdict = st.Verdict(decided[i].Address)
	}
	return decided, nil
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

package store

import (
	"context"

	"varnet/core/policy"
)

// Override is what a person decided about an address of a list, whatever the policy
// says.
type Override struct {
	Address  int32
	Decision policy.Decision
	// Verdict is what a run found of it, 0: nothing yet.
	Verdict int32
}

// Overrides returns what persons decided about the addresses of a run's list.
func (s *Store) Overrides(ctx context.Context, run Run) ([]Override, error) {
	decided, err := many[Override](ctx, s.db, "SELECT address, decision, 0 AS verdict FROM by_hand WHERE list_id = $1 ORDER BY address", run.ListID)
	if err != nil || len(decided) == 0 {
		return decided, err
	}
	st, err := s.Latest(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	for i := range decided {
		decided[i].Verdict = st.Verdict(decided[i].Address)
	}
	return decided, nil
}

// SetOverrides decides about addresses of a list, whatever the policy says; "" leaves
// them to the policy again. It returns about how many.
func (s *Store) SetOverrides(ctx context.Context, list int64, addresses []int32, d policy.Decision) (int64, error) {
	if d == "" {
		tag, err := s.db.Exec(ctx, "DELETE FROM by_hand WHERE list_id = $1 AND address = ANY($2)", list, addresses)
		return tag.RowsAffected(), err
	}
	var there []int32
	err := s.eachCellAt(ctx, list, addresses, false, func(r *Row) error {
		if r.First() {
			there = append(there, r.Ordinal)
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	tag, err := s.db.Exec(ctx, `INSERT INTO by_hand (list_id, address, decision) SELECT $1, unnest($2::int[]), $3
		ON CONFLICT (list_id, address) DO UPDATE SET decision = EXCLUDED.decision, at = now()`, list, there, string(d))
	return tag.RowsAffected(), err
}

package store

import (
	"context"
	"maps"
	"slices"

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

// Overrides returns what persons decided about the addresses of the runs' lists, by the run.
func (s *Store) Overrides(ctx context.Context, runs ...Run) (map[int64][]Override, error) {
	type record struct {
		ListID int64
		Override
	}
	lists := make([]int64, len(runs))
	for i, r := range runs {
		lists[i] = r.ListID
	}
	decided, err := many[record](ctx, s.db, "SELECT list_id, address, decision, 0 AS verdict FROM by_hand WHERE list_id = ANY($1) ORDER BY list_id, address", lists)
	if err != nil || len(decided) == 0 {
		return nil, err
	}
	byList := map[int64][]Override{}
	for _, d := range decided {
		byList[d.ListID] = append(byList[d.ListID], d.Override)
	}
	found := map[int64][]Override{}
	for _, r := range runs {
		if len(byList[r.ListID]) > 0 {
			found[r.ID] = slices.Clone(byList[r.ListID])
		}
	}
	latest, err := s.latestOfRuns(ctx, slices.Collect(maps.Keys(found)))
	if err != nil {
		return nil, err
	}
	for run, list := range found {
		addresses := make([]int32, len(list))
		for i := range list {
			addresses[i] = list[i].Address
		}
		now, err := latest[run].Of(ctx, addresses)
		if err != nil {
			return nil, err
		}
		for i := range list {
			list[i].Verdict = now[list[i].Address].Verdict
		}
	}
	return found, nil
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

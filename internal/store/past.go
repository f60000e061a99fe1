package store

import (
	"context"
	"time"
)

// Past is what a run found of an address.
type Past struct {
	RunID, ListID int64
	ListName      string
	Verdict       int32
	At            time.Time
}

const (
	// pastLists and pastRuns bound how many lists are searched for what earlier
	// runs found of an address, and how many of their runs are given.
	pastLists = 30
	pastRuns  = 30
)

// Pasts returns what other runs of the workspace found of a mailbox, the newest
// first.
func (s *Store) Pasts(ctx context.Context, workspace int64, run Run, mailbox string) ([]Past, error) {
	lists, err := many[struct{ ID int64 }](ctx, s.db, `SELECT id FROM list WHERE workspace_id = $1
		AND EXISTS (SELECT FROM run WHERE list_id = list.id) ORDER BY id = $2 DESC, id DESC LIMIT $3`, workspace, run.ListID, pastLists)
	if err != nil {
		return nil, err
	}
	var in []int64
	var at []int32
	for _, l := range lists {
		found, err := s.Numbers(ctx, l.ID, []string{mailbox})
		if err != nil {
			return nil, err
		}
		for _, o := range found {
			in, at = append(in, l.ID), append(at, o)
		}
	}
	return many[Past](ctx, s.db, `SELECT u.id AS run_id, l.id AS list_id, l.name AS list_name, x.verdicts[array_position(x.addresses, w.o)] AS verdict, x.at
		FROM unnest($1::bigint[], $2::int[]) w(list, o)
		JOIN list l ON l.id = w.list JOIN run u ON u.list_id = w.list AND u.id <> $3
		CROSS JOIN LATERAL (SELECT verdicts, addresses, at FROM batch WHERE run_id = u.id AND NOT restated AND w.o = ANY(addresses) ORDER BY id DESC LIMIT 1) x
		ORDER BY x.at DESC LIMIT $4`, in, at, run.ID, pastRuns)
}

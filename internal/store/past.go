package store

import (
	"context"
	"math"
	"slices"
	"strings"
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

// Pasts gives what other runs of the workspace found of a mailbox, the newest
// first. text is how it is written in the run's own list.
func (s *Store) Pasts(ctx context.Context, workspace int64, run Run, mailbox, text string) ([]Past, error) {
	lists, err := many[struct{ ID int64 }](ctx, s.db, `SELECT id FROM list WHERE workspace_id = $1
		AND EXISTS (SELECT FROM run WHERE list_id = list.id) ORDER BY id = $2 DESC, id DESC LIMIT $3`, workspace, run.ListID, pastLists)
	if err != nil {
		return nil, err
	}
	var in []int64
	var at []int32
	for _, l := range lists {
		for _, way := range slices.Compact([]string{strings.ToLower(mailbox), strings.ToLower(strings.TrimSpace(text))}) {
			found, _, err := s.matches(ctx, l.ID, 0, 0, way, math.MaxInt32)
			if err != nil {
				return nil, err
			}
			for _, o := range found {
				in, at = append(in, l.ID), append(at, o)
			}
		}
	}
	return many[Past](ctx, s.db, `SELECT DISTINCT u.id AS run_id, l.id AS list_id, l.name AS list_name, x.verdicts[array_position(x.addresses, w.o)] AS verdict, x.at
		FROM unnest($1::bigint[], $2::int[]) w(list, o)
		JOIN list_row r ON r.list_id = w.list AND r.ordinal = w.o AND coalesce(r.mailbox, r.typed) = $3
		JOIN list l ON l.id = w.list JOIN run u ON u.list_id = w.list AND u.id <> $4
		CROSS JOIN LATERAL (SELECT verdicts, addresses, at FROM batch WHERE run_id = u.id AND w.o = ANY(addresses) ORDER BY id DESC LIMIT 1) x
		ORDER BY x.at DESC LIMIT $5`, in, at, mailbox, run.ID, pastRuns)
}

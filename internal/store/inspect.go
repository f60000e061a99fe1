package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/store/pack"
)

// What follows is for operators: it looks across workspaces.

// ListInside is a list as the database holds it.
type ListInside struct {
	List
	Workspace string
	// Blocks and Parts are the records of its rows and of its addresses by domain, with
	// the bytes they take on disk.
	Blocks, BlockBytes int64
	Parts, PartBytes   int64
	Domains            int64
	Runs               []RunLine
}

// RunLine is a run of a list, in a line.
type RunLine struct {
	ID         int64
	State      string
	Depth      Depth
	CreatedAt  time.Time
	FinishedAt *time.Time
}

// InspectList looks into a list.
func (s *Store) InspectList(ctx context.Context, id int64) (in ListInside, err error) {
	if in.List, err = one[List](ctx, s.db, "SELECT "+listColumns+" FROM list WHERE id = $1", id); err != nil {
		return in, err
	}
	err = s.db.QueryRow(ctx, `SELECT (SELECT name FROM workspace WHERE id = $2), (SELECT count(*) FROM list_domain WHERE list_id = $1),
		b.n, b.bytes, p.n, p.bytes
		FROM (SELECT count(*) AS n, coalesce(sum(pg_column_size(b.*)), 0) AS bytes FROM row_block b WHERE list_id = $1) b,
			(SELECT count(*) AS n, coalesce(sum(pg_column_size(p.*)), 0) AS bytes FROM list_part p WHERE list_id = $1) p`, id, in.WorkspaceID).
		Scan(&in.Workspace, &in.Domains, &in.Blocks, &in.BlockBytes, &in.Parts, &in.PartBytes)
	if err != nil {
		return in, err
	}
	in.Runs, err = many[RunLine](ctx, s.db, "SELECT id, state, depth, created_at, finished_at FROM run WHERE list_id = $1 ORDER BY id", id)
	return in, err
}

// RunInside is a run as the database holds it.
type RunInside struct {
	Run
	Workspace string
	// Batches are the records of its results, with the bytes they take on disk.
	Batches, BatchBytes int64
	Results             []VerdictLine
	Parcels             []ParcelLine
	Lanes               []LaneLine
}

// VerdictLine is how many addresses of a run have a finding by a cause.
type VerdictLine struct {
	Finding, Cause string
	Addresses      int64
}

// ParcelLine is how many parcels of a run are in a state and a round.
type ParcelLine struct {
	State              string
	Round              int32
	Parcels, Addresses int64
}

// LaneLine is what a run has open at a lane key.
type LaneLine struct {
	LaneKey            string
	Waits              string
	Parcels, Addresses int64
	NotBefore          time.Time // of the first
}

// mostLanes is how many lane keys InspectRun returns.
const mostLanes = 20

// InspectRun looks into a run.
func (s *Store) InspectRun(ctx context.Context, id int64) (in RunInside, err error) {
	if in.Run, err = one[Run](ctx, s.db, "SELECT "+runColumns+" FROM run WHERE id = $1", id); err != nil {
		return in, err
	}
	err = s.db.QueryRow(ctx, `SELECT (SELECT name FROM workspace WHERE id = $2), count(*), coalesce(sum(pg_column_size(b.*)), 0) FROM batch b WHERE run_id = $1`, id, in.WorkspaceID).
		Scan(&in.Workspace, &in.Batches, &in.BatchBytes)
	if err != nil {
		return in, err
	}
	if in.Results, err = many[VerdictLine](ctx, s.db, `SELECT v.finding, v.cause, sum(t.addresses)::bigint AS addresses FROM tally t JOIN verdict v ON v.id = t.verdict
		WHERE t.run_id = $1 GROUP BY 1, 2 HAVING sum(t.addresses) <> 0 ORDER BY 3 DESC, 2`, id); err != nil {
		return in, err
	}
	if in.Parcels, err = many[ParcelLine](ctx, s.db, `SELECT state, round, count(*) AS parcels, sum(addresses)::bigint AS addresses FROM parcel
		WHERE run_id = $1 GROUP BY 1, 2 ORDER BY 1, 2`, id); err != nil {
		return in, err
	}
	in.Lanes, err = many[LaneLine](ctx, s.db, `SELECT lane_key, waits, count(*) AS parcels, sum(addresses)::bigint AS addresses, min(not_before) AS not_before FROM parcel_now
		WHERE run_id = $1 GROUP BY 1, 2 ORDER BY 4 DESC, 1 LIMIT $2`, id, mostLanes)
	return in, err
}

// ParcelInside is a parcel as the database holds it.
type ParcelInside struct {
	Parcel
	State  string
	Lane   *int32
	DoneAt *time.Time
	// Addresses is how many there were; those of a recorded parcel are with its results.
	Addresses int32
	Record    *pack.ParcelRecord
}

// InspectParcel looks into a parcel.
func (s *Store) InspectParcel(ctx context.Context, id int64) (in ParcelInside, err error) {
	var k keptQuestions
	err = s.db.QueryRow(ctx, `SELECT id, run_id, lane_key, turn, round, not_before, again, state, lane, done_at, addresses, record, ordinals, mailboxes, rounds, was, asked
		FROM parcel WHERE id = $1`, id).Scan(&in.ID, &in.RunID, &in.LaneKey, &in.Turn, &in.Round, &in.NotBefore, &in.Again, &in.State, &in.Lane, &in.DoneAt, &in.Addresses,
		&in.Record, &k.ordinals, &k.mailboxes, &k.rounds, &k.was, &k.asked)
	if errors.Is(err, pgx.ErrNoRows) {
		return in, ErrNotFound
	}
	if err == nil && len(k.ordinals) > 0 {
		in.Questions, err = k.questions()
	}
	return in, err
}

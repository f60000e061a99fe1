package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/probe"
)

// Asking is one address of a parcel.
type Asking struct {
	Address int32         `json:"a"`
	Rounds  int           `json:"r,omitempty"`
	Asked   []probe.Asked `json:"asked,omitempty"`
}

// Parcel is a bounded handful of addresses, the unit of work.
type Parcel struct {
	ID        int64
	RunID     int64
	LaneKey   string
	Turn      int32
	Round     int32
	Questions []Asking
	NotBefore time.Time
	// Again tells that the addresses have results, which stand until they are
	// replaced.
	Again bool
}

// Ordinals are the numbers of the parcel's addresses.
func (p *Parcel) Ordinals() []int32 {
	out := make([]int32, len(p.Questions))
	for i, q := range p.Questions {
		out[i] = q.Address
	}
	return out
}

// ParcelRecord is what is kept of a parcel beside its results.
type ParcelRecord struct {
	Conversations []probe.Conversation    `json:"conversations"`
	Manners       map[string]probe.Manner `json:"manners"`
}

// AddParcels records open parcels.
func (s *Store) AddParcels(ctx context.Context, parcels []Parcel) error {
	_, err := s.db.CopyFrom(ctx, pgx.Identifier{"parcel"},
		[]string{"run_id", "lane_key", "turn", "round", "addresses", "questions", "not_before", "again"},
		pgx.CopyFromSlice(len(parcels), func(i int) ([]any, error) {
			p := parcels[i]
			return []any{p.RunID, p.LaneKey, p.Turn, p.Round, int32(len(p.Questions)), p.Questions, p.NotBefore, p.Again}, nil
		}))
	return err
}

// runs tells in SQL that a parcel's run is not paused.
const runs = "EXISTS (SELECT FROM run WHERE run.id = p.run_id AND run.state = 'running')"

// Claim gives the lane the next parcel that may be asked now; nil when there
// is none. Runs take turns.
func (s *Store) Claim(ctx context.Context, laneKey string, lane int) (*Parcel, error) {
	p, err := one[Parcel](ctx, s.db, `
		UPDATE parcel SET state = 'claimed', lane = $2 WHERE id = (
			SELECT id FROM parcel p WHERE lane_key = $1 AND state = 'open' AND not_before <= now() AND `+runs+`
			ORDER BY turn, id FOR UPDATE SKIP LOCKED LIMIT 1)
		RETURNING id, run_id, lane_key, turn, round, questions, not_before, again`, laneKey, lane)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return &p, err
}

// GiveBack opens the parcels again that a lane claimed and did not record. A
// lane is one job at a time, so these were left behind by a worker that died.
func (s *Store) GiveBack(ctx context.Context, laneKey string, lane int) (int64, error) {
	tag, err := s.db.Exec(ctx, `
		UPDATE parcel SET state = CASE run.state WHEN 'running' THEN 'open' WHEN 'paused' THEN 'paused' ELSE 'void' END
		FROM run WHERE run.id = run_id AND lane_key = $1 AND lane = $2 AND parcel.state = 'claimed'`, laneKey, lane)
	return tag.RowsAffected(), err
}

// Ready is what may be asked now at a lane key.
type Ready struct {
	Parcels   int
	Addresses int64
	// Turn is the lowest of its parcels.
	Turn int32
}

// Ready tells what may be asked now at a lane key, of a hundred parcels at the
// most.
func (s *Store) Ready(ctx context.Context, laneKey string) (r Ready, err error) {
	err = s.db.QueryRow(ctx, `SELECT count(*), coalesce(sum(addresses), 0), coalesce(min(turn), 0) FROM (SELECT addresses, turn FROM parcel p
		WHERE lane_key = $1 AND state = 'open' AND not_before <= now() AND `+runs+` LIMIT 100) r`, laneKey).Scan(&r.Parcels, &r.Addresses, &r.Turn)
	return r, err
}

// MarkDone marks a claimed parcel done; ok is false when it is not claimed any
// more (its run was stopped, or it was given back), and then nothing of it may
// be recorded.
func (s *Store) MarkDone(ctx context.Context, parcel int64, lane int, r ParcelRecord) (ok bool, err error) {
	tag, err := s.db.Exec(ctx, `UPDATE parcel SET state = 'done', done_at = now(), record = $3, questions = '[]'
		WHERE id = $1 AND lane = $2 AND state = 'claimed'`, parcel, lane, r)
	return tag.RowsAffected() == 1, err
}

// ParcelRecords gives the records of some parcels of a run, or of the
// workspace's earlier ones, whose results it took over.
func (s *Store) ParcelRecords(ctx context.Context, run int64, parcels []int64) (map[int64]ParcelRecord, error) {
	rows, err := s.db.Query(ctx, `SELECT p.id, p.record FROM parcel p JOIN run u ON u.id = p.run_id
		WHERE u.workspace_id = (SELECT workspace_id FROM run WHERE id = $1) AND p.id = ANY($2) AND p.record IS NOT NULL`, run, parcels)
	if err != nil {
		return nil, err
	}
	out := map[int64]ParcelRecord{}
	var id int64
	var r ParcelRecord
	_, err = pgx.ForEachRow(rows, []any{&id, &r}, func() error {
		out[id], r = r, ParcelRecord{}
		return nil
	})
	return out, err
}

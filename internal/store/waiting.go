package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
)

// Awaited is what a run waits for at one lane key.
type Awaited struct {
	LaneKey string
	// Ready addresses may be asked now, InHand are being asked, Postponed wait
	// until the first of them may be asked.
	Ready, InHand, Postponed int64
	Until                    *time.Time
}

// Left is all of them, the postponed left out.
func (w Awaited) Left() int64 { return w.Ready + w.InHand }

// Awaited returns what a run waits for, by lane key, the most addresses first.
func (s *Store) Awaited(ctx context.Context, run int64) ([]Awaited, error) {
	return many[Awaited](ctx, s.db, `
		SELECT rtrim(lane_key, '!') AS lane_key, coalesce(sum(addresses) FILTER (WHERE state <> 'claimed' AND not_before <= now()), 0) AS ready,
			coalesce(sum(addresses) FILTER (WHERE state = 'claimed'), 0) AS in_hand,
			coalesce(sum(addresses) FILTER (WHERE state <> 'claimed' AND not_before > now()), 0) AS postponed,
			min(not_before) FILTER (WHERE state <> 'claimed' AND not_before > now()) AS until
		FROM parcel WHERE run_id = $1 AND state IN ('open', 'paused', 'claimed') GROUP BY 1 ORDER BY sum(addresses) DESC`, run)
}

// WaitingRun is a run of which all that is left waits.
type WaitingRun struct {
	WorkspaceID, ID, ListID int64
	ListName                string
	Addresses               int64
	Until                   time.Time
}

// WaitingRuns returns the runs of which all that is left waits for longer than some time, and of
// which no event of a kind is recorded.
func (s *Store) WaitingRuns(ctx context.Context, code event.Code, long time.Duration) ([]WaitingRun, error) {
	return many[WaitingRun](ctx, s.db, `SELECT u.workspace_id, u.id, l.id AS list_id, l.name AS list_name, p.addresses, p.until FROM run u JOIN list l ON l.id = u.list_id
		CROSS JOIN LATERAL (SELECT sum(addresses)::bigint AS addresses, min(not_before) AS until, bool_or(state = 'claimed') AS busy
			FROM parcel WHERE run_id = u.id AND state IN ('open', 'claimed')) p
		WHERE u.state = 'running' AND (u.plan->>'done')::boolean AND u.sample IS NULL AND NOT p.busy AND p.until > now() + $2::interval
		AND NOT EXISTS (SELECT FROM event e WHERE e.thing = 'runs/' || u.id AND e.code = $1) LIMIT 100`, code, long)
}

// AwaitedByAll returns how many addresses of all runs may be asked now, by lane key.
func (s *Store) AwaitedByAll(ctx context.Context) (map[string]int64, error) {
	rows, err := s.db.Query(ctx, "SELECT lane_key, sum(addresses) FROM parcel WHERE state = 'open' AND not_before <= now() GROUP BY 1")
	return byKey[int64](rows, err)
}

// LearnSpeed takes in how many addresses a second one lane got through.
func (s *Store) LearnSpeed(ctx context.Context, key string, perSecond float64) error {
	_, err := s.db.Exec(ctx, `INSERT INTO lane_speed (lane_key, per_second) VALUES ($1, $2)
		ON CONFLICT (lane_key) DO UPDATE SET per_second = 0.7 * lane_speed.per_second + 0.3 * EXCLUDED.per_second, at = now()`, key, perSecond)
	return err
}

// Speeds returns how many addresses a second one lane gets through, of those lane
// keys of which it is known.
func (s *Store) Speeds(ctx context.Context, keys []string) (map[string]float64, error) {
	rows, err := s.db.Query(ctx, "SELECT lane_key, per_second::float8 FROM lane_speed WHERE lane_key = ANY($1)", keys)
	return byKey[float64](rows, err)
}

// byKey collects rows of a name and a value.
func byKey[T any](rows pgx.Rows, err error) (map[string]T, error) {
	if err != nil {
		return nil, err
	}
	out := map[string]T{}
	var key string
	var value T
	_, err = pgx.ForEachRow(rows, []any{&key, &value}, func() error {
		out[key] = value
		return nil
	})
	return out, err
}

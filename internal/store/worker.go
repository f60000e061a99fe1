package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Worker is a process that works parcels.
type Worker struct {
	ID      string
	Name    string
	Version string
	// Serves tells a process that serves API and console, too.
	Serves bool
	// Location is where it goes out from; "": the service's.
	Location string
	// Lanes are how many it works in at once, Parcels how many it has in hand.
	Lanes   int
	Parcels int
	// Routes is how many sessions it has begun by each route, by name.
	Routes    map[string]int64
	Draining  bool
	StartedAt time.Time
	SeenAt    time.Time
}

// SeeWorker records a heartbeat, and gives whether the worker is to come to
// its end.
func (s *Store) SeeWorker(ctx context.Context, w Worker) (draining bool, err error) {
	err = s.db.QueryRow(ctx, `INSERT INTO worker (id, name, version, serves, lanes, parcels, started_at, routes, location) VALUES ($1, $2, $3, $4, $5, $6, $7, coalesce($8::jsonb, '{}'), $9)
		ON CONFLICT (id) DO UPDATE SET parcels = EXCLUDED.parcels, routes = EXCLUDED.routes, seen_at = now() RETURNING draining`,
		w.ID, w.Name, w.Version, w.Serves, w.Lanes, w.Parcels, w.StartedAt, w.Routes, w.Location).Scan(&draining)
	return draining, err
}

// Workers returns the workers, the oldest first.
func (s *Store) Workers(ctx context.Context) ([]Worker, error) {
	return many[Worker](ctx, s.db, "SELECT id, name, version, serves, location, lanes, parcels, routes, draining, started_at, seen_at FROM worker ORDER BY started_at, id")
}

// Locations returns those of the workers that sent a heartbeat within some time and are not about
// to end.
func (s *Store) Locations(ctx context.Context, silence time.Duration) ([]string, error) {
	return column[string](ctx, s.db, "SELECT DISTINCT location FROM worker WHERE location <> '' AND NOT draining AND seen_at > now() - $1::interval", silence)
}

// MoveJobs puts the jobs of queues of which nobody takes any more into another.
func (s *Store) MoveJobs(ctx context.Context, from []string, to string) (int64, error) {
	tag, err := s.db.Exec(ctx, "UPDATE river_job SET queue = $2 WHERE queue = ANY($1) AND state IN ('available', 'retryable', 'scheduled', 'pending')", from, to)
	return tag.RowsAffected(), err
}

// LanesGoing returns which lanes of some keys have a job of a kind that is not at its end, and keeps these jobs
// from ending before the transaction does. Many may do so at once.
func (s *Store) LanesGoing(ctx context.Context, kind string, keys []string) (map[string][]int, error) {
	type record struct {
		Key  string
		Lane int
	}
	found, err := many[record](ctx, s.db, `SELECT args->>'key' AS key, (args->>'lane')::int AS lane FROM river_job
		WHERE state IN ('available', 'running', 'retryable', 'scheduled', 'pending') AND kind = $1 AND args->>'key' = ANY($2) ORDER BY id FOR SHARE`, kind, keys)
	out := map[string][]int{}
	for _, r := range found {
		out[r.Key] = append(out[r.Key], r.Lane)
	}
	return out, err
}

// DrainWorker tells a worker to take nothing new and come to its end.
func (s *Store) DrainWorker(ctx context.Context, id string) error {
	tag, err := s.db.Exec(ctx, "UPDATE worker SET draining = true WHERE id = $1", id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// EndWorker removes a worker.
func (s *Store) EndWorker(ctx context.Context, id string) error {
	_, err := s.db.Exec(ctx, "DELETE FROM worker WHERE id = $1", id)
	return err
}

// LostWorkers removes workers that sent no heartbeat for so long, and
// lets others take up their jobs at once: the engine itself waits until a job
// is older than any may be. A job whose worker comes to life again records
// nothing, since its parcels are claimed anew.
func (s *Store) LostWorkers(ctx context.Context, silence time.Duration) (ids []string, err error) {
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if ids, err = column[string](ctx, s.db, "DELETE FROM worker WHERE seen_at < now() - $1::interval RETURNING id", silence); err != nil || len(ids) == 0 {
			return err
		}
		_, err = s.db.Exec(ctx, `UPDATE river_job SET state = 'retryable', scheduled_at = now()
			WHERE state = 'running' AND attempted_by[array_length(attempted_by, 1)] = ANY($1)`, ids)
		return err
	})
	return ids, err
}

// Queue is what waits to be worked.
type Queue struct {
	// Parcels and their addresses by state: open, postponed, paused, claimed.
	Parcels, Addresses map[string]int64
	// Age is how long the oldest open parcel has waited.
	Age time.Duration
}

// Queue counts what waits.
func (s *Store) Queue(ctx context.Context) (q Queue, err error) {
	q.Parcels, q.Addresses = map[string]int64{}, map[string]int64{}
	rows, err := s.db.Query(ctx, `SELECT CASE WHEN p.state = 'open' AND not_before > now() THEN 'postponed' ELSE p.state END, count(*), sum(addresses),
			coalesce(extract(epoch FROM now() - min(not_before)), 0)::float8
		FROM parcel p JOIN run u ON u.id = p.run_id WHERE p.state IN ('open', 'paused', 'claimed') AND u.state IN ('running', 'paused') GROUP BY 1`)
	if err != nil {
		return q, err
	}
	var state string
	var parcels, addresses int64
	var age float64
	_, err = pgx.ForEachRow(rows, []any{&state, &parcels, &addresses, &age}, func() error {
		if q.Parcels[state], q.Addresses[state] = parcels, addresses; state == "open" {
			q.Age = time.Duration(age * float64(time.Second))
		}
		return nil
	})
	return q, err
}

// Database tells the version of the database and how many bytes it takes.
func (s *Store) Database(ctx context.Context) (version string, bytes int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT current_setting('server_version'), pg_database_size(current_database())").Scan(&version, &bytes)
	return version, bytes, err
}

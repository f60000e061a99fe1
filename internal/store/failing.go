package store

import (
	"context"
	"time"

	"varnet/core/event"
)

// Failing is what keeps failing among the jobs of a kind.
type Failing struct {
	Kind string
	Jobs int64
	// Since is when the first of them failed first, Attempts how often it was tried.
	Since    time.Time
	Attempts int
	// Run and LaneKey are what that one works on; 0 and "" where it is something else.
	Run     int64
	LaneKey string
	// Said is its last error. It may hold text of others.
	Said string
}

// fails tells in SQL that a job failed so many times in a row ($1), and first so long ago ($2).
const fails = `state IN ('available', 'running', 'retryable', 'scheduled') AND cardinality(errors) >= $1 AND (errors[1]->>'at')::timestamptz < now() - $2::interval`

// Failing returns what failed so many times in a row, and first so long ago, by kind of job; what has failed longest comes
// first. A job that succeeds, or is given up, is not among it any more.
func (s *Store) Failing(ctx context.Context, times int, long time.Duration) ([]Failing, error) {
	return many[Failing](ctx, s.db, `SELECT * FROM (
			SELECT DISTINCT ON (kind) kind, count(*) OVER (PARTITION BY kind) AS jobs, (errors[1]->>'at')::timestamptz AS since, attempt AS attempts,
				coalesce((args->>'run')::bigint, 0) AS run, coalesce(args->>'key', '') AS lane_key, coalesce(errors[cardinality(errors)]->>'error', '') AS said
			FROM river_job WHERE `+fails+` ORDER BY kind, since, id) longest
		ORDER BY since, kind`, times, long)
}

// FailingSince returns since when lanes have failed in this way, by their keys, and since when the planning of a run has,
// by "".
func (s *Store) FailingSince(ctx context.Context, times int, long time.Duration, run int64, laneKeys []string) (map[string]time.Time, error) {
	rows, err := s.db.Query(ctx, `SELECT CASE kind WHEN 'lane' THEN rtrim(args->>'key', '!') ELSE '' END, min((errors[1]->>'at')::timestamptz)
		FROM river_job WHERE `+fails+` AND (kind = 'plan' AND (args->>'run')::bigint = $3 OR kind = 'lane' AND rtrim(args->>'key', '!') = ANY($4)) GROUP BY 1`, times, long, run, laneKeys)
	return byKey[time.Time](rows, err)
}

// ToldSince returns in which words an event of a kind was recorded within some time.
func (s *Store) ToldSince(ctx context.Context, code event.Code, within time.Duration) ([]string, error) {
	return column[string](ctx, s.db, "SELECT coalesce(data->>'words', '') FROM event WHERE code = $1 AND at > now() - $2::interval", code, within)
}

// keptErrors are how many errors of a job are kept; by that number its retries wait longer, up to it.
const keptErrors = 10

// ForgetErrors keeps the first and the newest errors of jobs that failed far more often: River stores each with its trace,
// and all of them anew each time, while jobs are retried for weeks.
func (s *Store) ForgetErrors(ctx context.Context) error {
	_, err := s.db.Exec(ctx, `UPDATE river_job SET errors = errors[1:1] || errors[cardinality(errors) - $1 + 2:] WHERE state = 'retryable' AND cardinality(errors) > 2 * $1`, keptErrors)
	return err
}

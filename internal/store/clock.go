package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// smallStep is by how much the database's clock may be set back and nobody minds: a wait is as
// much longer.
const smallStep = 5 * time.Second

// setBack are the moments up to which something waits, and which would be too far off where the
// clock was set back by $1. The times that people set are not among them: those are by the clock.
var setBack = []string{
	`UPDATE river_job SET scheduled_at = greatest(now(), scheduled_at - $1::interval) WHERE state IN ('available', 'scheduled', 'retryable') AND scheduled_at > now()`,
	`UPDATE parcel SET not_before = greatest(now(), not_before - $1::interval) WHERE state IN ('open', 'paused') AND not_before > now()`,
	`UPDATE worker SET seen_at = greatest(now(), seen_at - $1::interval) WHERE seen_at > now()`,
	`UPDATE sending_part SET rest_until = greatest(now(), rest_until - $1::interval) WHERE rest_until > now()`,
	`UPDATE operator_route SET blocked_until = greatest(now(), blocked_until - $1::interval) WHERE blocked_until > now()`,
	`UPDATE operator_route SET pace = jsonb_set(pace, '{restUntil}', to_jsonb(greatest(now(), (pace->>'restUntil')::timestamptz - $1::interval)))
		WHERE (pace->>'restUntil')::timestamptz > now()`,
	`UPDATE attempt SET blocked_until = greatest(now(), blocked_until - $1::interval) WHERE blocked_until > now()`,
}

// LookAtClock compares the database's clock with the last look of any worker. Where it was set
// back, by more than a few seconds, what waits for a moment waits no longer than it was to, and
// back is by how much. steady reports whether the looks followed each other for so long that who
// has sent no heartbeat since is gone: after a jump forward, or after all workers were down,
// the others must get to give one first.
func (s *Store) LookAtClock(ctx context.Context, silence time.Duration) (back time.Duration, steady bool, err error) {
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		var since, calm time.Duration
		if err := s.db.QueryRow(ctx, "SELECT now() - at, now() - steady FROM clock FOR UPDATE").Scan(&since, &calm); err != nil {
			return err
		}
		jumped := since < 0 || since > silence
		steady = !jumped && calm > silence
		if since < -smallStep {
			back = -since
			for _, update := range setBack {
				if _, err := s.db.Exec(ctx, update, back); err != nil {
					return err
				}
			}
		}
		_, err := s.db.Exec(ctx, "UPDATE clock SET at = now(), steady = CASE WHEN $1 THEN now() ELSE steady END", jumped)
		return err
	})
	return back, steady, err
}

package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Visit counts that a visitor of a form asked about an address, both by fingerprint, and returns
// how often they asked that day, and about how many different addresses. more reports whether the
// address is one of those for the first time.
func (s *Store) Visit(ctx context.Context, key int64, visitor, address []byte, now time.Time) (asks, different int, more bool, err error) {
	err = s.db.QueryRow(ctx, `WITH before AS (SELECT cardinality(addresses) AS n FROM form_visit WHERE key_id = $1 AND visitor = $2 AND day = $4::timestamptz::date)
		INSERT INTO form_visit AS v (key_id, visitor, day, asks, addresses, at) VALUES ($1, $2, $4::timestamptz::date, 1, ARRAY[$3::bytea], $4)
		ON CONFLICT (key_id, visitor, day) DO UPDATE SET asks = v.asks + 1, at = $4, addresses = CASE WHEN v.addresses @> ARRAY[$3::bytea] OR cardinality(v.addresses) >= $5 THEN v.addresses ELSE v.addresses || $3::bytea END
		RETURNING asks, cardinality(addresses), cardinality(addresses) > coalesce((SELECT n FROM before), 0)`, key, visitor, address, now.UTC(), mostVisited).Scan(&asks, &different, &more)
	return asks, different, more, err
}

// mostVisited bounds how many different addresses are remembered of a visitor and day.
const mostVisited = 1000

// FormAnswer returns what was found about an address that was typed into a form, and when; "" for
// nothing.
func (s *Store) FormAnswer(ctx context.Context, workspace int64, print []byte) (answer string, at time.Time, err error) {
	err = s.db.QueryRow(ctx, "SELECT answer, at FROM form_answer WHERE workspace_id = $1 AND fingerprint = $2", workspace, print).Scan(&answer, &at)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return answer, at, err
}

// KeepFormAnswer keeps what was found.
func (s *Store) KeepFormAnswer(ctx context.Context, workspace int64, print []byte, answer string, at time.Time) error {
	_, err := s.db.Exec(ctx, `INSERT INTO form_answer (workspace_id, fingerprint, answer, at) VALUES ($1, $2, $3, $4)
		ON CONFLICT (workspace_id, fingerprint) DO UPDATE SET answer = EXCLUDED.answer, at = EXCLUDED.at`, workspace, print, answer, at)
	return err
}

// ForgetForms forgets the visits and answers of the days before.
func (s *Store) ForgetForms(ctx context.Context) error {
	if _, err := s.db.Exec(ctx, "DELETE FROM form_answer WHERE at < now() - interval '1 day'"); err != nil {
		return err
	}
	_, err := s.db.Exec(ctx, "DELETE FROM form_visit WHERE day < current_date - 1")
	return err
}

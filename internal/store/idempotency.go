package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// Answer is what was answered to a request with an idempotency key.
type Answer struct {
	// Request is the SHA-256 of the request.
	Request []byte
	// Status is 0 while the request is being answered.
	Status   int
	Location string
	Sealed   []byte
}

// AnswerLife is for how long answers are kept, and so for how long a key holds.
const AnswerLife = 24 * time.Hour

// BeginAnswer takes an idempotency key for a request; ok is false when it is taken, and
// then the answer is what is known of it.
func (s *Store) BeginAnswer(ctx context.Context, workspace int64, key string, request []byte) (a Answer, ok bool, err error) {
	tag, err := s.db.Exec(ctx, `INSERT INTO idempotency (workspace_id, key, request) VALUES ($1, $2, $3)
		ON CONFLICT (workspace_id, key) DO UPDATE SET request = EXCLUDED.request, status = NULL, location = '', answer = NULL, at = now()
		WHERE idempotency.at < now() - $4::interval`, workspace, key, request, AnswerLife)
	if err != nil || tag.RowsAffected() == 1 {
		return a, err == nil, err
	}
	err = s.db.QueryRow(ctx, "SELECT request, coalesce(status, 0), location, answer FROM idempotency WHERE workspace_id = $1 AND key = $2", workspace, key).
		Scan(&a.Request, &a.Status, &a.Location, &a.Sealed)
	if errors.Is(err, pgx.ErrNoRows) { // given back meanwhile
		return s.BeginAnswer(ctx, workspace, key, request)
	}
	return a, false, err
}

// EndAnswer records what was answered.
func (s *Store) EndAnswer(ctx context.Context, workspace int64, key string, a Answer) error {
	_, err := s.db.Exec(ctx, "UPDATE idempotency SET status = $3, location = $4, answer = $5 WHERE workspace_id = $1 AND key = $2", workspace, key, a.Status, a.Location, a.Sealed)
	return err
}

// GiveUpAnswer frees a key whose request made nothing.
func (s *Store) GiveUpAnswer(ctx context.Context, workspace int64, key string) error {
	_, err := s.db.Exec(ctx, "DELETE FROM idempotency WHERE workspace_id = $1 AND key = $2 AND status IS NULL", workspace, key)
	return err
}

// ForgetAnswers deletes answers that are older than they are kept.
func (s *Store) ForgetAnswers(ctx context.Context) error {
	_, err := s.db.Exec(ctx, "DELETE FROM idempotency WHERE at < now() - $1::interval", AnswerLife)
	return err
}

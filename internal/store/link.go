package store

import (
	"context"
	"time"
)

// Link is a URL from which a tool fetches a file of a run, until it expires.
type Link struct {
	ID           int64
	WorkspaceID  int64
	RunID        int64
	Decision     string
	Form, Format string
	ByWhom       string
	ExpiresAt    time.Time
	Fetched      int // how often
	FetchedAt    *time.Time
	CreatedAt    time.Time
}

const linkColumns = "id, workspace_id, run_id, decision, form, format, by_whom, expires_at, fetched, fetched_at, created_at"

// NewLink records a link, gives it its ID and returns its secret.
func (s *Store) NewLink(ctx context.Context, l *Link) (string, error) {
	text, hash := secret("")
	return text, s.db.QueryRow(ctx, "INSERT INTO link (workspace_id, run_id, hash, decision, form, format, by_whom, expires_at) VALUES ($1, $2, $3, $4, $5, $6, $7, $8) RETURNING id, created_at",
		l.WorkspaceID, l.RunID, hash, l.Decision, l.Form, l.Format, l.ByWhom, l.ExpiresAt).Scan(&l.ID, &l.CreatedAt)
}

// Links returns the links of a run that are good, the newest first.
func (s *Store) Links(ctx context.Context, workspace, run int64) ([]Link, error) {
	return many[Link](ctx, s.db, "SELECT "+linkColumns+" FROM link WHERE workspace_id = $1 AND run_id = $2 AND expires_at > now() ORDER BY id DESC", workspace, run)
}

// FollowLink returns the link of a secret that is good, and counts that it was followed.
func (s *Store) FollowLink(ctx context.Context, secret string) (Link, error) {
	return one[Link](ctx, s.db, "UPDATE link SET fetched = fetched + 1, fetched_at = now() WHERE hash = $1 AND expires_at > now() RETURNING "+linkColumns, hashed(secret))
}

// DeleteLink deletes a link.
func (s *Store) DeleteLink(ctx context.Context, workspace, id int64) error {
	return s.changed(ctx, "DELETE FROM link WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// ForgetLinks deletes the links that have expired.
func (s *Store) ForgetLinks(ctx context.Context) error {
	_, err := s.db.Exec(ctx, "DELETE FROM link WHERE expires_at < now()")
	return err
}

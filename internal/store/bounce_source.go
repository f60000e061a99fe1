package store

import (
	"context"
	"time"
)

// The kinds of sources of what comes back.
const (
	SourceMailbox = "mailbox" // a mailbox that is read over IMAP
	SourceWebhook = "webhook" // a program that calls
)

// What becomes of a message of a mailbox that was read.
const (
	ThenFlag   = "flag"   // it is marked as seen, and stays
	ThenMove   = "move"   // it goes to another folder
	ThenDelete = "delete" // it is deleted
)

// BounceSource is where what comes back after mailings is read.
type BounceSource struct {
	ID           int64
	WorkspaceID  int64
	Kind         string
	Name         string
	Host         string
	Port         int
	Security     string
	Username     string
	Sealed       []byte // the password, or the secret that calls are signed by
	Folder       string
	Then         string
	ThenFolder   string
	UIDValidity  int64
	LastUID      int64
	LookedAt     *time.Time
	FailingSince *time.Time // nil: the last look was well
	Says         string
	Messages     int64 // that came by it
	ByWhom       string
	CreatedAt    time.Time
}

const sourceColumns = `id, workspace_id, kind, name, host, port, security, username, sealed, folder, "then", then_folder, uid_validity, last_uid, looked_at, failing_since, says, messages, by_whom, created_at`

// NewBounceSource records a source and gives it its ID.
func (s *Store) NewBounceSource(ctx context.Context, b *BounceSource) error {
	made, err := one[BounceSource](ctx, s.db, `INSERT INTO bounce_source (workspace_id, kind, name, host, port, security, username, sealed, folder, "then", then_folder, by_whom)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) RETURNING `+sourceColumns,
		b.WorkspaceID, b.Kind, b.Name, b.Host, b.Port, b.Security, b.Username, b.Sealed, b.Folder, b.Then, b.ThenFolder, b.ByWhom)
	if err == nil {
		*b = made
	}
	return err
}

// ChangeBounceSource records how a source is now. Another folder or mailbox is read from its
// beginning.
func (s *Store) ChangeBounceSource(ctx context.Context, b BounceSource) error {
	return s.changed(ctx, `UPDATE bounce_source SET name = $3, port = $5, security = $6, sealed = $8, "then" = $10, then_folder = $11, failing_since = NULL, says = '', looked_at = NULL,
			last_uid = CASE WHEN (host, username, folder) = ($4, $7, $9) THEN last_uid ELSE 0 END, host = $4, username = $7, folder = $9
		WHERE workspace_id = $1 AND id = $2`, b.WorkspaceID, b.ID, b.Name, b.Host, b.Port, b.Security, b.Username, b.Sealed, b.Folder, b.Then, b.ThenFolder)
}

// BounceSources returns the sources of a workspace, the oldest first.
func (s *Store) BounceSources(ctx context.Context, workspace int64) ([]BounceSource, error) {
	return many[BounceSource](ctx, s.db, "SELECT "+sourceColumns+" FROM bounce_source WHERE workspace_id = $1 ORDER BY id", workspace)
}

// BounceSource returns a source of a workspace.
func (s *Store) BounceSource(ctx context.Context, workspace, id int64) (BounceSource, error) {
	return one[BounceSource](ctx, s.db, "SELECT "+sourceColumns+" FROM bounce_source WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// BounceSourceAtWork returns a source to who reads it, or takes its calls.
func (s *Store) BounceSourceAtWork(ctx context.Context, id int64) (BounceSource, error) {
	return one[BounceSource](ctx, s.db, "SELECT "+sourceColumns+" FROM bounce_source WHERE id = $1", id)
}

// DeleteBounceSource deletes a source. What came by it stays.
func (s *Store) DeleteBounceSource(ctx context.Context, workspace, id int64) error {
	return s.changed(ctx, "DELETE FROM bounce_source WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// DueBounceSources returns mailboxes that were not looked at since a time, or, where they
// fail, since an earlier one.
func (s *Store) DueBounceSources(ctx context.Context, since, failing time.Time, limit int) ([]BounceSource, error) {
	return many[BounceSource](ctx, s.db, "SELECT "+sourceColumns+` FROM bounce_source WHERE kind = 'mailbox'
		AND (looked_at IS NULL OR looked_at <= CASE WHEN failing_since IS NULL THEN $1::timestamptz ELSE $2::timestamptz END) ORDER BY looked_at NULLS FIRST LIMIT $3`, since, failing, limit)
}

// ClaimBounceSource has one reader alone read a mailbox: ErrNotFound while another one does. A
// claim that was not given back ends after a while.
func (s *Store) ClaimBounceSource(ctx context.Context, id int64, atMost time.Duration) error {
	return s.changed(ctx, "UPDATE bounce_source SET claimed_at = now() WHERE id = $1 AND (claimed_at IS NULL OR claimed_at < now() - $2::interval)", id, atMost)
}

// SetBounceSourceRead records up to which message a mailbox was read, and how many came.
func (s *Store) SetBounceSourceRead(ctx context.Context, b BounceSource, messages int) error {
	return s.changed(ctx, "UPDATE bounce_source SET uid_validity = $2, last_uid = $3, messages = messages + $4 WHERE id = $1", b.ID, b.UIDValidity, b.LastUID, messages)
}

// SetBounceSourceLook records what a look found, or why it failed, and gives the claim back.
func (s *Store) SetBounceSourceLook(ctx context.Context, id int64, at time.Time, says string, failed bool) error {
	return s.changed(ctx, "UPDATE bounce_source SET looked_at = $2, claimed_at = NULL, says = $3, failing_since = CASE WHEN $4 THEN coalesce(failing_since, $2) END WHERE id = $1", id, at, says, failed)
}

package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
)

// ErrUnknownKey tells a key or session that is not, or no longer, good.
var ErrUnknownKey = errors.New("the key is not known")

// Workspace is who a request acts for.
type Workspace struct {
	ID    int64
	Name  string
	KeyID int64
	// Keeper looks after outbound of the installation.
	Keeper bool
}

// secret makes 256 random bits in a form that can be typed and pasted.
func secret(prefix string) (text string, hash []byte) {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	text = prefix + base64.RawURLEncoding.EncodeToString(b)
	return text, hashed(text)
}

// hashed is how secrets are kept. They hold 256 random bits, so a plain hash
// cannot be turned back.
func hashed(text string) []byte {
	h := sha256.Sum256([]byte(text))
	return h[:]
}

// NewKey makes a key for the workspace of that name, which is made if need be; the first
// there is looks after outbound. The text of the key is returned this once and
// cannot be read again.
func (s *Store) NewKey(ctx context.Context, workspace, name string) (k Key, text string, err error) {
	text, hash := secret("varnet_")
	k, err = one[Key](ctx, s.db, `
		WITH made AS (INSERT INTO workspace (name, keeper) SELECT $1, NOT EXISTS (SELECT FROM workspace)
			ON CONFLICT (name) DO UPDATE SET name = $1 RETURNING id)
		INSERT INTO key (workspace_id, name, hash) SELECT id, $2, $3 FROM made RETURNING id, name, created_at`, workspace, name, hash)
	return k, text, err
}

// AnyKey reports whether there is a key at all.
func (s *Store) AnyKey(ctx context.Context) (any bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM key)").Scan(&any)
	return any, err
}

// WorkspaceOfKey returns the workspace a key opens.
func (s *Store) WorkspaceOfKey(ctx context.Context, key string) (Workspace, error) {
	return s.workspace(ctx, `SELECT w.id, w.name, k.id, w.keeper FROM key k JOIN workspace w ON w.id = k.workspace_id WHERE k.hash = $1`, hashed(key))
}

// SessionLife is how long a console session lasts.
const SessionLife = 30 * 24 * time.Hour

// NewSession opens a console session for a key.
func (s *Store) NewSession(ctx context.Context, keyID int64) (string, error) {
	text, hash := secret("")
	_, err := s.db.Exec(ctx, `INSERT INTO console_session (hash, key_id, expires_at) VALUES ($1, $2, $3)`,
		hash, keyID, time.Now().Add(SessionLife))
	return text, err
}

// EndSession ends a console session.
func (s *Store) EndSession(ctx context.Context, session string) error {
	_, err := s.db.Exec(ctx, "DELETE FROM console_session WHERE hash = $1 OR expires_at < now()", hashed(session))
	return err
}

// WorkspaceOfSession returns the workspace a console session is signed in to.
func (s *Store) WorkspaceOfSession(ctx context.Context, session string) (Workspace, error) {
	return s.workspace(ctx, `
		SELECT w.id, w.name, k.id, w.keeper FROM console_session c JOIN key k ON k.id = c.key_id JOIN workspace w ON w.id = k.workspace_id
		WHERE c.hash = $1 AND c.expires_at > now()`, hashed(session))
}

func (s *Store) workspace(ctx context.Context, sql string, hash []byte) (w Workspace, err error) {
	err = s.db.QueryRow(ctx, sql, hash).Scan(&w.ID, &w.Name, &w.KeyID, &w.Keeper)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrUnknownKey
	}
	return w, err
}

// Key is a key as it is kept: it cannot be read again.
type Key struct {
	ID        int64
	Name      string
	CreatedAt time.Time
}

// Keys returns the keys of a workspace, the oldest first.
func (s *Store) Keys(ctx context.Context, workspace int64) ([]Key, error) {
	return many[Key](ctx, s.db, "SELECT id, name, created_at FROM key WHERE workspace_id = $1 ORDER BY id", workspace)
}

// DeleteKey takes a key back, with the console sessions that it opened.
func (s *Store) DeleteKey(ctx context.Context, workspace, id int64) error {
	tag, err := s.db.Exec(ctx, "DELETE FROM key WHERE workspace_id = $1 AND id = $2", workspace, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

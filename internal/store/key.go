package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"net/netip"
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
	// Scopes are what the key may do.
	Scopes []string
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

// KeyTerms are what a key is for: what it may do, how long and from where.
type KeyTerms struct {
	Name      string
	Scopes    []string
	ExpiresAt *time.Time
	Networks  []netip.Prefix // none: from anywhere
	MadeBy    *int64         // the key by which it was made
}

// NewKey records a key for the workspace of that name, which is made if need be; the first
// there is looks after outbound. Of its text only a hash is kept.
func (s *Store) NewKey(ctx context.Context, workspace, text string, t KeyTerms) (Key, error) {
	return one[Key](ctx, s.db, `
		WITH made AS (INSERT INTO workspace (name, keeper) SELECT $1, NOT EXISTS (SELECT FROM workspace)
			ON CONFLICT (name) DO UPDATE SET name = $1 RETURNING id)
		INSERT INTO key (workspace_id, name, hash, scopes, expires_at, networks, made_by) SELECT id, $2, $3, $4, $5, coalesce($6::cidr[], '{}'), $7 FROM made RETURNING `+keyColumns,
		workspace, t.Name, hashed(text), t.Scopes, t.ExpiresAt, t.Networks, t.MadeBy)
}

// RotateKey records a new key with the terms of another one, which ends at a time unless it
// ends before.
func (s *Store) RotateKey(ctx context.Context, workspace, id int64, text string, until time.Time) (k Key, err error) {
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		k, err = one[Key](ctx, s.db, `INSERT INTO key (workspace_id, name, hash, scopes, expires_at, networks, made_by)
			SELECT workspace_id, name, $3, scopes, expires_at, networks, id FROM key WHERE workspace_id = $1 AND id = $2 RETURNING `+keyColumns, workspace, id, hashed(text))
		if err == nil {
			_, err = s.db.Exec(ctx, "UPDATE key SET expires_at = least(expires_at, $3) WHERE workspace_id = $1 AND id = $2", workspace, id, until)
		}
		return err
	})
	return k, err
}

// AnyKey reports whether there is a key at all.
func (s *Store) AnyKey(ctx context.Context) (any bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM key)").Scan(&any)
	return any, err
}

// WorkspaceOfKey returns the workspace a key opens to somebody at an address.
func (s *Store) WorkspaceOfKey(ctx context.Context, key string, from netip.Addr) (Workspace, error) {
	return s.workspace(ctx, from, `key k JOIN workspace w ON w.id = k.workspace_id WHERE k.hash = $1`, hashed(key))
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
func (s *Store) WorkspaceOfSession(ctx context.Context, session string, from netip.Addr) (Workspace, error) {
	return s.workspace(ctx, from, `console_session c JOIN key k ON k.id = c.key_id JOIN workspace w ON w.id = k.workspace_id
		WHERE c.hash = $1 AND c.expires_at > now()`, hashed(session))
}

// usedEvery is how often the use of a key is written down at the most.
const usedEvery = time.Minute

// workspace returns the workspace of a key that is good now, and from that address. Why one
// is not is told to nobody: it may be a thief who asks.
func (s *Store) workspace(ctx context.Context, from netip.Addr, where string, hash []byte) (w Workspace, err error) {
	var used *time.Time
	err = s.db.QueryRow(ctx, "SELECT w.id, w.name, k.id, w.keeper, k.scopes, k.last_used_at FROM "+where+
		" AND (k.expires_at IS NULL OR k.expires_at > now()) AND (k.networks = '{}' OR $2::inet <<= ANY (k.networks))", hash, from).
		Scan(&w.ID, &w.Name, &w.KeyID, &w.Keeper, &w.Scopes, &used)
	if errors.Is(err, pgx.ErrNoRows) {
		return w, ErrUnknownKey
	}
	if err == nil && (used == nil || time.Since(*used) > usedEvery) {
		_, err = s.db.Exec(ctx, `UPDATE key SET last_used_at = now(), last_used_from = $2
			WHERE id = $1 AND last_used_at IS NOT DISTINCT FROM $3`, w.KeyID, from, used)
	}
	return w, err
}

// Key is a key as it is kept: it cannot be read again.
type Key struct {
	ID           int64
	Name         string
	Scopes       []string
	CreatedAt    time.Time
	ExpiresAt    *time.Time
	Networks     []netip.Prefix
	LastUsedAt   *time.Time
	LastUsedFrom *netip.Addr
	MadeBy       *int64
}

const keyColumns = "id, name, scopes, created_at, expires_at, networks, last_used_at, last_used_from, made_by"

// Keys returns the keys of a workspace, the oldest first, also those that have expired.
func (s *Store) Keys(ctx context.Context, workspace int64) ([]Key, error) {
	return many[Key](ctx, s.db, "SELECT "+keyColumns+" FROM key WHERE workspace_id = $1 ORDER BY id", workspace)
}

// Key returns a key of a workspace.
func (s *Store) Key(ctx context.Context, workspace, id int64) (Key, error) {
	return one[Key](ctx, s.db, "SELECT "+keyColumns+" FROM key WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// DeleteKey takes a key back, with the console sessions that it opened.
func (s *Store) DeleteKey(ctx context.Context, workspace, id int64) error {
	tag, err := s.db.Exec(ctx, "DELETE FROM key WHERE workspace_id = $1 AND id = $2", workspace, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

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

// Opened is what a key opens.
type Opened struct {
	WorkspaceID int64
	Workspace   string
	KeyID       int64
	KeyName     string
	Scopes      []string // what it may do
	// Origins are those of the pages that a form's key is for; VisitorDay is how often one of
	// their visitors may ask a day.
	Origins    []string
	VisitorDay int
	Allowance  bool // one is kept of the workspace
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
	Origins   []string       // of a form: the origins of its pages
	// VisitorDay is how often a visitor of a form may ask a day; nil: it is the key of none.
	VisitorDay *int
	MadeBy     *int64 // the key by which it was made
	Person     *int64 // the person by whom
}

// NewKey records a key of a workspace. Of its text only a hash is kept.
func (s *Store) NewKey(ctx context.Context, workspace int64, text string, t KeyTerms) (Key, error) {
	return one[Key](ctx, s.db, `INSERT INTO key (workspace_id, name, hash, scopes, expires_at, networks, made_by, made_by_person, origins, visitor_day)
		VALUES ($1, $2, $3, $4, $5, coalesce($6::cidr[], '{}'), $7, $8, coalesce($9::text[], '{}'), $10) RETURNING `+keyColumns,
		workspace, t.Name, hashed(text), t.Scopes, t.ExpiresAt, t.Networks, t.MadeBy, t.Person, t.Origins, t.VisitorDay)
}

// RotateKey records a new key with the terms of another one, which ends at a time unless it
// ends before.
func (s *Store) RotateKey(ctx context.Context, workspace, id int64, text string, until time.Time) (k Key, err error) {
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		k, err = one[Key](ctx, s.db, `INSERT INTO key (workspace_id, name, hash, scopes, expires_at, networks, made_by, made_by_person, origins, visitor_day)
			SELECT workspace_id, name, $3, scopes, expires_at, networks, id, made_by_person, origins, visitor_day FROM key WHERE workspace_id = $1 AND id = $2 RETURNING `+keyColumns, workspace, id, hashed(text))
		if err == nil {
			_, err = s.db.Exec(ctx, "UPDATE key SET expires_at = least(expires_at, $3) WHERE workspace_id = $1 AND id = $2", workspace, id, until)
		}
		return err
	})
	return k, err
}

// usedEvery is how often the use of a key is written down at the most.
const usedEvery = time.Minute

// OpenedBy returns what a key opens that is good now, and from that address. Why one is not is
// told to nobody: it may be a thief who asks.
func (s *Store) OpenedBy(ctx context.Context, key string, from netip.Addr) (o Opened, err error) {
	var used *time.Time
	err = s.db.QueryRow(ctx, `SELECT w.id, w.name, k.id, k.name, k.scopes, k.origins, coalesce(k.visitor_day, 0), k.last_used_at,
		EXISTS (SELECT FROM allowance a WHERE a.workspace_id = w.id AND a.kept) FROM key k JOIN workspace w ON w.id = k.workspace_id WHERE k.hash = $1
		AND (k.expires_at IS NULL OR k.expires_at > now()) AND (k.networks = '{}' OR $2::inet <<= ANY (k.networks))`, hashed(key), from).
		Scan(&o.WorkspaceID, &o.Workspace, &o.KeyID, &o.KeyName, &o.Scopes, &o.Origins, &o.VisitorDay, &used, &o.Allowance)
	if errors.Is(err, pgx.ErrNoRows) {
		return o, ErrUnknownKey
	}
	if err == nil && (used == nil || time.Since(*used) > usedEvery) {
		_, err = s.db.Exec(ctx, `UPDATE key SET last_used_at = now(), last_used_from = CASE WHEN origins = '{}' THEN $2::inet END -- of no visitor of a form
			WHERE id = $1 AND last_used_at IS NOT DISTINCT FROM $3`, o.KeyID, from, used)
	}
	return o, err
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
	Origins      []string
	VisitorDay   *int
	MadeBy       *int64
	Person       *string // the name of who made it
}

const keyColumns = "id, name, scopes, created_at, expires_at, networks, last_used_at, last_used_from, origins, visitor_day, made_by, (SELECT p.name FROM person p WHERE p.id = made_by_person) AS person"

// Keys returns the keys of a workspace, the oldest first, also those that have expired.
func (s *Store) Keys(ctx context.Context, workspace int64) ([]Key, error) {
	return many[Key](ctx, s.db, "SELECT "+keyColumns+" FROM key WHERE workspace_id = $1 ORDER BY id", workspace)
}

// Key returns a key of a workspace.
func (s *Store) Key(ctx context.Context, workspace, id int64) (Key, error) {
	return one[Key](ctx, s.db, "SELECT "+keyColumns+" FROM key WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// ExpiringKey is a key that ends soon.
type ExpiringKey struct {
	WorkspaceID int64
	Name        string
	ExpiresAt   time.Time
}

// ExpiringKeys returns the keys that end within some time, each once.
func (s *Store) ExpiringKeys(ctx context.Context, within time.Duration) ([]ExpiringKey, error) {
	return many[ExpiringKey](ctx, s.db, `UPDATE key SET end_told_at = now() WHERE end_told_at IS NULL AND expires_at > now() AND expires_at < now() + $1::interval
		RETURNING workspace_id, name, expires_at`, within)
}

// DeleteKey takes a key back.
func (s *Store) DeleteKey(ctx context.Context, workspace, id int64) error {
	tag, err := s.db.Exec(ctx, "DELETE FROM key WHERE workspace_id = $1 AND id = $2", workspace, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

package store

import (
	"context"
	"maps"
	"time"

	"varnet/core/erase"
)

// The kinds of requests of persons about their address.
const (
	RequestFile  = "file"  // all that is held, as a file
	RequestErase = "erase" // it is erased, and not kept again
	RequestAllow = "allow" // it may be kept again
)

// The states of a request.
const (
	RequestWorking = "working"
	RequestDone    = "done"
)

// Request is what a person asked for about their address, and what was done.
type Request struct {
	ID          int64
	WorkspaceID int64
	Kind        string
	Fingerprint []byte
	// Sealed is the address while an erasure is at work; nil afterwards.
	Sealed []byte
	State  string
	// Lists is in how many lists something was erased, Rows how many rows are blank now,
	// Elsewhere how many records outside of lists.
	Lists                    int32
	Rows, Results, Elsewhere int64
	// Says is what an erasure waits for.
	Says    string
	ByWhom  string
	BegunAt time.Time
	EndedAt *time.Time
}

const requestColumns = "id, workspace_id, kind, fingerprint, sealed, state, lists, rows, results, elsewhere, says, by_whom, begun_at, ended_at"

// NewRequest records a request and gives it its ID. One that is done has ended.
func (s *Store) NewRequest(ctx context.Context, r *Request) (err error) {
	*r, err = one[Request](ctx, s.db, `INSERT INTO request (workspace_id, kind, fingerprint, sealed, state, by_whom, ended_at)
		VALUES ($1, $2, $3, $4, $5, $6, CASE WHEN $5 = 'done' THEN now() END) RETURNING `+requestColumns, r.WorkspaceID, r.Kind, r.Fingerprint, r.Sealed, r.State, r.ByWhom)
	return err
}

// SetRequest records how far an erasure is.
func (s *Store) SetRequest(ctx context.Context, r Request) error {
	return s.changed(ctx, `UPDATE request SET state = $2, lists = $3, rows = $4, results = $5, elsewhere = $6, says = $7, sealed = CASE WHEN $2 = 'done' THEN NULL ELSE sealed END,
		ended_at = CASE WHEN $2 = 'done' THEN now() END WHERE id = $1`, r.ID, r.State, r.Lists, r.Rows, r.Results, r.Elsewhere, r.Says)
}

// Request returns a request of the workspace.
func (s *Store) Request(ctx context.Context, workspace, id int64) (Request, error) {
	return one[Request](ctx, s.db, "SELECT "+requestColumns+" FROM request WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// RequestAtWork returns a request by its number alone.
func (s *Store) RequestAtWork(ctx context.Context, id int64) (Request, error) {
	return one[Request](ctx, s.db, "SELECT "+requestColumns+" FROM request WHERE id = $1", id)
}

// RequestsOf returns the last requests of a workspace, the latest first, before one; 0: from the
// last.
func (s *Store) RequestsOf(ctx context.Context, workspace, before int64, limit int) ([]Request, error) {
	return many[Request](ctx, s.db, "SELECT "+requestColumns+" FROM request WHERE workspace_id = $1 AND ($2::bigint = 0 OR id < $2) ORDER BY id DESC LIMIT $3", workspace, before, limit)
}

// EraseBy has the store take in no address that a workspace is not to keep again: f returns what
// finds those, nil where there are none.
func (s *Store) EraseBy(f func(ctx context.Context, s *Store, workspace int64) (*erase.Eraser, error)) {
	s.gone = f
}

// Gone returns what finds the addresses that a workspace is not to keep again; nil where there are
// none. In a transaction it makes erasures wait until that has ended.
func (s *Store) Gone(ctx context.Context, workspace int64) (*erase.Eraser, error) {
	if s.gone == nil {
		return nil, nil
	}
	return s.gone(ctx, s, workspace)
}

// notGone takes out of what is by canonical form those addresses that are not to be kept again.
func notGone[T any](ctx context.Context, s *Store, workspace int64, by map[string]T) error {
	gone, err := s.Gone(ctx, workspace)
	if gone != nil {
		maps.DeleteFunc(by, func(canonical string, _ T) bool { return gone.Is(canonical) })
	}
	return err
}

// ErasedKey returns the sealed secret of a workspace's fingerprints of what was erased; nil where
// nothing was. In a transaction it makes erasures wait until that has ended.
func (s *Store) ErasedKey(ctx context.Context, workspace int64) (sealed []byte, err error) {
	err = s.db.QueryRow(ctx, "SELECT (SELECT erased_key FROM workspace WHERE id = $1) FROM pg_advisory_xact_lock_shared($2, $3)", workspace, erasedLock, int32(workspace)).Scan(&sealed)
	return sealed, err
}

// KeepErasedKey keeps that secret where there is none.
func (s *Store) KeepErasedKey(ctx context.Context, workspace int64, sealed []byte) error {
	return s.changed(ctx, "UPDATE workspace SET erased_key = coalesce(erased_key, $2) WHERE id = $1", workspace, sealed)
}

// erasedLock is the advisory lock of what comes into a workspace, with the workspace's number: whoever
// brings addresses in shares it, and an erasure has it alone for the moment in which the address
// becomes one that is not kept.
const erasedLock = 0x65726173

// AddErased remembers that an address is not to be kept. It waits for all that comes into the
// workspace at the moment, and is for a transaction.
func (s *Store) AddErased(ctx context.Context, workspace int64, print []byte) error {
	if _, err := s.db.Exec(ctx, "SELECT pg_advisory_xact_lock($1, $2)", erasedLock, int32(workspace)); err != nil {
		return err
	}
	_, err := s.db.Exec(ctx, "INSERT INTO erased (workspace_id, fingerprint, at) VALUES ($1, $2, now()) ON CONFLICT DO NOTHING", workspace, print)
	return err
}

// DropErased lets an address be kept again; ErrNotFound tells that it was not erased.
func (s *Store) DropErased(ctx context.Context, workspace int64, print []byte) error {
	return s.changed(ctx, "DELETE FROM erased WHERE workspace_id = $1 AND fingerprint = $2", workspace, print)
}

// ErasedAt returns when an address was erased; nil: it was not.
func (s *Store) ErasedAt(ctx context.Context, workspace int64, print []byte) (at *time.Time, err error) {
	err = s.db.QueryRow(ctx, "SELECT (SELECT at FROM erased WHERE workspace_id = $1 AND fingerprint = $2)", workspace, print).Scan(&at)
	return at, err
}

// Erased returns the fingerprints of all that was erased in a workspace.
func (s *Store) Erased(ctx context.Context, workspace int64) (map[string]bool, error) {
	found, err := many[struct{ Fingerprint []byte }](ctx, s.db, "SELECT fingerprint FROM erased WHERE workspace_id = $1", workspace)
	prints := make(map[string]bool, len(found))
	for _, f := range found {
		prints[string(f.Fingerprint)] = true
	}
	return prints, err
}

// AllLists returns all lists of a workspace in the order in which they came, those included that a
// newer file was imported for.
func (s *Store) AllLists(ctx context.Context, workspace int64) ([]List, error) {
	return many[List](ctx, s.db, "SELECT "+listColumns+" FROM list WHERE workspace_id = $1 ORDER BY id", workspace)
}

// AllRuns returns all runs of a list in the order in which they began.
func (s *Store) AllRuns(ctx context.Context, list int64) ([]Run, error) {
	return many[Run](ctx, s.db, "SELECT "+runColumns+" FROM run WHERE list_id = $1 ORDER BY id", list)
}

// PagesWaiting reports whether contacts of a connection are kept that are being imported.
func (s *Store) PagesWaiting(ctx context.Context, workspace int64) (waiting bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM connection_page WHERE import_id IN (SELECT id FROM connection_import WHERE workspace_id = $1))", workspace).Scan(&waiting)
	return waiting, err
}

package store

import (
	"context"
	"crypto/sha256"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// AuditEntry is an entry of the audit trail as it is kept.
type AuditEntry struct {
	Seq    int64
	Body   string // JSON, as it was written
	Before []byte // the hash of the entry before it
	Hash   []byte
}

// auditLock is the advisory lock under which entries are appended, one after the other.
const auditLock = 0x7661726e6574

// AuditHash returns the hash of an entry: SHA-256 of the hash before it and its body, as AppendAudit has the
// database reckon it.
func AuditHash(before []byte, body string) []byte {
	h := sha256.New()
	h.Write(before)
	h.Write([]byte(body))
	return h.Sum(nil)
}

// AppendAudit writes an entry at the end of the trail. Both statements go out together, so that
// the lock, for which everybody waits who does something, is held for no round trip.
func (s *Store) AppendAudit(ctx context.Context, body string) error {
	b := &pgx.Batch{}
	b.Queue("SELECT pg_advisory_xact_lock($1)", int64(auditLock))
	b.Queue(`INSERT INTO audit (seq, body, before, hash)
		SELECT coalesce(l.seq, 0) + 1, $1, coalesce(l.hash, $2), sha256(coalesce(l.hash, $2) || convert_to($1, 'UTF8'))
		FROM (SELECT) one LEFT JOIN (SELECT seq, hash FROM audit ORDER BY seq DESC LIMIT 1) l ON true`, body, make([]byte, sha256.Size))
	return s.db.SendBatch(ctx, b).Close()
}

// AuditFilter chooses entries; what is nil or "" does not matter.
type AuditFilter struct {
	Workspace *int64 // what was done in it, and how its people signed in
	Outside   bool   // what was done in no workspace
	Person    *int64
	Action    string
	From, To  time.Time
	Before    int64 // entries with lower numbers; 0: all
}

func (f AuditFilter) where() (string, []any) {
	sql, args := "true", []any{}
	and := func(condition string, value any) {
		args = append(args, value)
		sql += fmt.Sprintf(" AND "+condition, len(args))
	}
	if f.Workspace != nil {
		and("(workspace_id = $%[1]d OR workspace_id IS NULL AND person_id IN (SELECT person_id FROM member WHERE workspace_id = $%[1]d))", *f.Workspace)
	}
	if f.Outside {
		sql += " AND workspace_id IS NULL"
	}
	if f.Person != nil {
		and("person_id = $%d", *f.Person)
	}
	if f.Action != "" {
		and("action = $%d", f.Action)
	}
	if !f.From.IsZero() {
		and("at >= $%d", f.From.UnixMicro())
	}
	if !f.To.IsZero() {
		and("at < $%d", f.To.UnixMicro())
	}
	if f.Before > 0 {
		and("seq < $%d", f.Before)
	}
	return sql, args
}

// Audit returns entries, the latest first.
func (s *Store) Audit(ctx context.Context, f AuditFilter, limit int) ([]AuditEntry, error) {
	where, args := f.where()
	return many[AuditEntry](ctx, s.db, "SELECT seq, body, before, hash FROM audit WHERE "+where+fmt.Sprintf(" ORDER BY seq DESC LIMIT %d", limit), args...)
}

// auditPage is how many entries are read at once.
const auditPage = 1000

// EachAudit calls do with every entry that fits, the oldest first. No connection is held while
// do works.
func (s *Store) EachAudit(ctx context.Context, f AuditFilter, do func(AuditEntry) error) error {
	where, args := f.where()
	args = append(args, int64(0))
	sql := fmt.Sprintf("SELECT seq, body, before, hash FROM audit WHERE %s AND seq > $%d ORDER BY seq LIMIT %d", where, len(args), auditPage)
	for {
		page, err := many[AuditEntry](ctx, s.db, sql, args...)
		if err != nil {
			return err
		}
		for _, e := range page {
			if err := do(e); err != nil {
				return err
			}
		}
		if len(page) < auditPage {
			return nil
		}
		args[len(args)-1] = page[len(page)-1].Seq
	}
}

// ForgetAudit deletes the entries whose time is over, but for the latest: the next is chained
// to it.
func (s *Store) ForgetAudit(ctx context.Context) (int64, error) {
	tag, err := s.db.Exec(ctx, `DELETE FROM audit WHERE at < (extract(epoch FROM now() - (SELECT audit_days FROM installation) * interval '1 day') * 1e6)::bigint
		AND seq < (SELECT max(seq) FROM audit)`)
	return tag.RowsAffected(), err
}

// PersonNames and KeyNames return the names of people and keys by their numbers.
func (s *Store) PersonNames(ctx context.Context, ids []int64) (map[int64]string, error) {
	return s.names(ctx, "SELECT id, name FROM person WHERE id = ANY ($1)", ids)
}
func (s *Store) KeyNames(ctx context.Context, ids []int64) (map[int64]string, error) {
	return s.names(ctx, "SELECT id, name FROM key WHERE id = ANY ($1)", ids)
}

func (s *Store) names(ctx context.Context, sql string, ids []int64) (map[int64]string, error) {
	type named struct {
		ID   int64
		Name string
	}
	found, err := many[named](ctx, s.db, sql, ids)
	out := map[int64]string{}
	for _, n := range found {
		out[n.ID] = n.Name
	}
	return out, err
}

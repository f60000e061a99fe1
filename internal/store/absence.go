package store

import (
	"context"
	"crypto/sha256"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// fingerprint is what is kept of an address whose rows may be gone.
func fingerprint(mailbox string) []byte {
	h := sha256.Sum256([]byte(strings.ToLower(mailbox)))
	return h[:]
}

// SaveAbsences remembers when mailboxes were first found absent.
func (s *Store) SaveAbsences(ctx context.Context, workspace int64, mailboxes []string) error {
	if len(mailboxes) == 0 {
		return nil
	}
	prints := make([][]byte, len(mailboxes))
	for i, m := range mailboxes {
		prints[i] = fingerprint(m)
	}
	_, err := s.db.Exec(ctx, `INSERT INTO absence (workspace_id, fingerprint, at) SELECT $1, f, now() FROM unnest($2::bytea[]) f ORDER BY f
		ON CONFLICT DO NOTHING`, workspace, prints)
	return err
}

// AnyAbsent tells whether any mailbox was found absent before a time.
func (s *Store) AnyAbsent(ctx context.Context, workspace int64, before time.Time) (any bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM absence WHERE workspace_id = $1 AND at < $2)", workspace, before).Scan(&any)
	return any, err
}

// Absences tells which mailboxes were found absent before, and when first.
func (s *Store) Absences(ctx context.Context, workspace int64, mailboxes []string) (map[string]time.Time, error) {
	byPrint := map[string]string{}
	prints := make([][]byte, len(mailboxes))
	for i, m := range mailboxes {
		prints[i] = fingerprint(m)
		byPrint[string(prints[i])] = m
	}
	rows, err := s.db.Query(ctx, "SELECT fingerprint, at FROM absence WHERE workspace_id = $1 AND fingerprint = ANY($2)", workspace, prints)
	if err != nil {
		return nil, err
	}
	out := map[string]time.Time{}
	var print []byte
	var at time.Time
	_, err = pgx.ForEachRow(rows, []any{&print, &at}, func() error {
		out[byPrint[string(print)]] = at
		return nil
	})
	return out, err
}

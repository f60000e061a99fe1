package store

import (
	"context"
	"crypto/sha256"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
)

// fingerprint is what is kept of an address whose rows may be gone.
func fingerprint(mailbox string) []byte {
	h := sha256.Sum256([]byte(strings.ToLower(mailbox)))
	return h[:]
}

// RememberAbsent remembers when mailboxes were first found absent: of runs that came
// to their end, what was found since it did so last. Nobody asks before months have
// passed, and many at once take a fraction of the time that they take parcel by
// parcel.
func (s *Store) RememberAbsent(ctx context.Context) error {
	runs, err := many[struct{ ID int64 }](ctx, s.db, `SELECT id FROM run WHERE state IN ('finished', 'stopped')
		AND coalesce((plan->>'remembered')::bigint, 0) < coalesce((SELECT max(id) FROM batch WHERE run_id = run.id), 0) ORDER BY id`)
	for _, r := range runs {
		if err == nil {
			err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error { return s.rememberAbsent(ctx, r.ID) })
		}
	}
	return err
}

// rememberAbsent remembers it of one run.
func (s *Store) rememberAbsent(ctx context.Context, run int64) error {
	r, err := s.RunByID(ctx, run)
	if err != nil {
		return err
	}
	st, err := s.Latest(ctx, run)
	if err != nil || st.last() == r.Plan.Remembered {
		return err
	}
	absent, err := many[struct{ ID int32 }](ctx, s.db, "SELECT id FROM verdict WHERE cause = $1", string(finding.MailboxAbsent))
	if err != nil {
		return err
	}
	ok := matching{Latest: st, verdicts: map[int32]bool{}}
	for _, v := range absent {
		ok.verdicts[v.ID] = true
	}
	var prints [][]byte
	err = s.eachLocal(ctx, r.ListID, nil, func(domain, local string, o int32) {
		if ok.has(o, st.Verdict(o)) && st.of(o).id > r.Plan.Remembered {
			prints = append(prints, fingerprint(local+"@"+domain))
		}
	})
	if err != nil {
		return err
	}
	if _, err := s.db.Exec(ctx, "UPDATE run SET plan = jsonb_set(plan, '{remembered}', to_jsonb($2::bigint)) WHERE id = $1", run, st.last()); err != nil || len(prints) == 0 {
		return err
	}
	_, err = s.db.Exec(ctx, `INSERT INTO absence (workspace_id, fingerprint, at) SELECT $1, f, now() FROM unnest($2::bytea[]) f ORDER BY f
		ON CONFLICT DO NOTHING`, r.WorkspaceID, prints)
	return err
}

// rememberAbsentOf remembers it of all runs of a list, whatever their state.
func (s *Store) rememberAbsentOf(ctx context.Context, list int64) error {
	runs, err := many[struct{ ID int64 }](ctx, s.db, "SELECT id FROM run WHERE list_id = $1 ORDER BY id", list)
	for _, r := range runs {
		if err == nil {
			err = s.rememberAbsent(ctx, r.ID)
		}
	}
	return err
}

// AbsentSince tells when the first of a workspace's mailboxes was found absent:
// now, where none was.
func (s *Store) AbsentSince(ctx context.Context, workspace int64) (since time.Time, err error) {
	err = s.db.QueryRow(ctx, "SELECT coalesce(min(at), now()) FROM absence WHERE workspace_id = $1", workspace).Scan(&since)
	return since, err
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

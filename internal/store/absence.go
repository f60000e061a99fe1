package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
)

// Fingerprint is what is kept of an address whose rows may be gone, and the name of the secret
// that it is keyed with: by trying addresses, nobody finds it in the database alone.
type Fingerprint = struct{ Secret, Sum []byte }

// Fingerprints makes those of a text by all secrets that there are, the present one's first.
type Fingerprints func(text string) []Fingerprint

// FingerprintBy has absent mailboxes remembered by fingerprints, as f says for each batch of
// them how they are made now.
func (s *Store) FingerprintBy(f func() Fingerprints) { s.fingerprints = f }

// plain is the fingerprint without a secret, as releases before kept it and as it is keyed.
func plain(mailbox string) []byte {
	h := sha256.Sum256([]byte(strings.ToLower(mailbox)))
	return h[:]
}

// absenceKept is for how long an absence is remembered.
const absenceKept = "3 years"

// KeyAbsences keys the fingerprints that have no secret yet, and forgets the old ones.
func (s *Store) KeyAbsences(ctx context.Context) error {
	if _, err := s.db.Exec(ctx, "DELETE FROM absence WHERE at < now() - $1::interval", absenceKept); err != nil {
		return err
	}
	for keyed := absencesAtOnce; keyed == absencesAtOnce; {
		err := s.InTx(ctx, func(s *Store, _ pgx.Tx) (err error) {
			keyed, err = s.keySome(ctx)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// absencesAtOnce is how many are keyed in one transaction.
const absencesAtOnce = 10_000

func (s *Store) keySome(ctx context.Context) (int, error) {
	type absence struct {
		WorkspaceID int64
		Fingerprint []byte
		At          time.Time
	}
	some, err := many[absence](ctx, s.db, `DELETE FROM absence WHERE (workspace_id, fingerprint) IN
		(SELECT workspace_id, fingerprint FROM absence WHERE secret IS NULL LIMIT $1 FOR UPDATE SKIP LOCKED) RETURNING workspace_id, fingerprint, at`, absencesAtOnce)
	if err != nil || len(some) == 0 {
		return 0, err
	}
	var workspaces []int64
	var prints [][]byte
	var at []time.Time
	var secret []byte
	printsOf := s.fingerprints()
	for _, a := range some {
		f := printsOf(string(a.Fingerprint))[0]
		workspaces, prints, at, secret = append(workspaces, a.WorkspaceID), append(prints, f.Sum), append(at, a.At), f.Secret
	}
	_, err = s.db.Exec(ctx, `INSERT INTO absence (workspace_id, fingerprint, at, secret) SELECT w, f, a, $4 FROM unnest($1::bigint[], $2::bytea[], $3::timestamptz[]) AS x(w, f, a) ORDER BY w, f
		ON CONFLICT (workspace_id, fingerprint) DO UPDATE SET at = least(absence.at, EXCLUDED.at)`, workspaces, prints, at, secret)
	return len(some), err
}

// FingerprintsBefore returns how many absences and outcomes are remembered by another secret
// than this, or by none.
func (s *Store) FingerprintsBefore(ctx context.Context, present []byte) (n int64, err error) {
	err = s.db.QueryRow(ctx, `SELECT (SELECT count(*) FROM absence WHERE secret IS DISTINCT FROM $1)
		+ (SELECT count(*) FROM outcome WHERE secret IS DISTINCT FROM $1)`, present).Scan(&n)
	return n, err
}

// ForgetFingerprintsBefore forgets them.
func (s *Store) ForgetFingerprintsBefore(ctx context.Context, present []byte) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if _, err := s.db.Exec(ctx, "DELETE FROM absence WHERE secret IS DISTINCT FROM $1", present); err != nil {
			return err
		}
		_, err := s.db.Exec(ctx, "DELETE FROM outcome WHERE secret IS DISTINCT FROM $1", present)
		return err
	})
}

// RememberAbsent remembers when mailboxes were first found absent: of runs that came
// to their end, what was found since it did so last. Nobody asks before months have
// passed, and many at once take a fraction of the time that they take parcel by
// parcel. A run is looked at once more when what was begun in its last moments must
// have been recorded.
func (s *Store) RememberAbsent(ctx context.Context) error {
	runs, err := many[struct{ ID int64 }](ctx, s.db, `SELECT id FROM run WHERE finished_at IS NOT NULL
		AND (remembered_at IS NULL OR remembered_at - finished_at < interval '1 hour') ORDER BY id`)
	for _, one := range runs {
		var r Run
		if err == nil {
			s.giveWay(ctx)
			r, err = s.RunByID(ctx, one.ID)
		}
		if err == nil {
			err = s.rememberAbsent(ctx, r)
		}
	}
	return err
}

// rememberAbsent remembers it of some runs of one list, in one walk through the list's addresses. Broken off, it starts
// over; what is remembered already stays as it is.
func (s *Store) rememberAbsent(ctx context.Context, runs ...Run) (err error) {
	var found marks
	newest := make([]int64, len(runs))
	for i, r := range runs {
		if newest[i], err = s.markAbsent(ctx, r, &found); err != nil {
			return err
		}
	}
	if len(found.bits) > 0 {
		if err := s.rememberMarked(ctx, runs[0].WorkspaceID, runs[0].ListID, &found); err != nil {
			return err
		}
	}
	for i, r := range runs {
		if _, err := s.db.Exec(ctx, "UPDATE run SET remembered_at = now(), plan = jsonb_set(plan, '{remembered}', to_jsonb($2::bigint)) WHERE id = $1", r.ID, newest[i]); err != nil {
			return err
		}
	}
	return nil
}

// markAbsent marks the addresses that a run found absent since it was last remembered, and returns its newest batch.
func (s *Store) markAbsent(ctx context.Context, r Run, found *marks) (newest int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT coalesce(max(id), 0) FROM batch WHERE run_id = $1", r.ID).Scan(&newest)
	if err != nil || newest == r.Plan.Remembered { // which saves reading the run
		return newest, err
	}
	st, err := s.Latest(ctx, r.ID)
	if err != nil {
		return 0, err
	}
	absent, err := many[struct{ ID int32 }](ctx, s.db, "SELECT id FROM verdict WHERE cause = $1", string(finding.MailboxAbsent))
	if err != nil {
		return 0, err
	}
	verdicts := map[int32]bool{}
	for _, v := range absent {
		verdicts[v.ID] = true
	}
	return st.newest, st.Each(ctx, 0, verdicts, func(one Standing) bool {
		if one.Batch > r.Plan.Remembered {
			found.mark(one.Address)
		}
		return true
	})
}

// rememberMarked remembers the addresses of a list that are marked.
func (s *Store) rememberMarked(ctx context.Context, workspace, list int64, found *marks) error {
	gathered, printsOf := prints{}, s.fingerprints() // each lot by one secret
	for of := (partsOf{lines: true, limit: absentParts}); ; {
		read := 0
		err := s.eachPart(ctx, list, of, func(domain string, ordinals []int32, lines string) bool {
			read++
			of.beyond = partPlace{domain, ordinals[len(ordinals)-1]}
			for _, o := range ordinals {
				var local string
				if local, _, lines = cutLine(lines); found.has(o) {
					gathered.add(printsOf(string(plain(local + "@" + domain)))[0])
				}
			}
			return true
		})
		last := read < absentParts
		if err == nil && (last || len(gathered.sums) >= absencesGathered) {
			err = s.addAbsences(ctx, workspace, gathered)
			gathered, printsOf = prints{}, s.fingerprints()
		}
		if err != nil || last {
			return err
		}
	}
}

const (
	// absentParts is how many parts of a list are read at a time.
	absentParts = 64
	// absencesGathered is how many absences, of some 60 bytes each, are gathered before they are added in the order of
	// their index: the more there are, the fewer of its pages a statement touches.
	absencesGathered = 250_000
)

// prints are fingerprints by one secret.
type prints struct {
	secret []byte
	sums   [][]byte
}

func (p *prints) add(f Fingerprint) { p.secret, p.sums = f.Secret, append(p.sums, f.Sum) }

// addAbsences remembers that mailboxes were found absent now, unless they were before. They come
// in the order of their index, all of them: those of one statement have few of its pages in common
// otherwise, and each page that is changed is written whole after each checkpoint.
func (s *Store) addAbsences(ctx context.Context, workspace int64, p prints) error {
	slices.SortFunc(p.sums, bytes.Compare)
	for some := range slices.Chunk(p.sums, absencesAtOnce) {
		_, err := s.db.Exec(ctx, `INSERT INTO absence (workspace_id, fingerprint, at, secret) SELECT $1, f, now(), $3 FROM unnest($2::bytea[]) f
			ON CONFLICT DO NOTHING`, workspace, some, p.secret)
		if err != nil {
			return err
		}
	}
	return nil
}

// HasAbsencesBefore reports whether any of a workspace's mailboxes was found absent before a time.
// Absences stand in the order of their times, so those that are younger are not looked at.
func (s *Store) HasAbsencesBefore(ctx context.Context, workspace int64, at time.Time) (has bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM absence WHERE workspace_id = $1 AND at < $2)", workspace, at).Scan(&has)
	return has, err
}

// Absences tells which mailboxes were found absent before, and when first.
func (s *Store) Absences(ctx context.Context, workspace int64, mailboxes []string) (map[string]time.Time, error) {
	first := map[string]time.Time{}
	return first, s.ask(ctx, s.absencesOf(first, workspace, mailboxes))
}

func (s *Store) absencesOf(first map[string]time.Time, workspace int64, mailboxes []string) question {
	byPrint := map[string]string{}
	var prints [][]byte
	printsOf := s.fingerprints()
	for _, m := range mailboxes {
		unkeyed := plain(m)
		for _, f := range append(printsOf(string(unkeyed)), Fingerprint{Sum: unkeyed}) {
			prints = append(prints, f.Sum)
			byPrint[string(f.Sum)] = m
		}
	}
	const sql = "SELECT fingerprint, at FROM absence WHERE workspace_id = $1 AND fingerprint = ANY($2)"
	return question{sql, []any{workspace, prints}, func(rows pgx.Rows) error {
		var print []byte
		var at time.Time
		_, err := pgx.ForEachRow(rows, []any{&print, &at}, func() error {
			m := byPrint[string(print)]
			if was, known := first[m]; !known || at.Before(was) {
				first[m] = at
			}
			return nil
		})
		return err
	}}
}

package store_test

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/probe"
	"varnet/internal/store"
	"varnet/internal/store/migrate"
	"varnet/internal/store/pack"
)

// TestDeletedWorkspaceLeavesNothing looks into every table that the database has for
// records of the workspace, its lists and its runs, so that a new table is looked into, too.
func TestDeletedWorkspaceLeavesNothing(t *testing.T) {
	s, ctx := open(t), t.Context()
	theirs := workspace(t, s, "theirs")
	kept := fill(t, s, theirs)
	w := workspace(t, s, "ours")
	run := fill(t, s, w)
	before := records(t, s, w, run)
	for _, table := range []string{"row_block", "list_part", "batch", "tally", "parcel", "run_domain", "policy", "by_hand", "upload", "catalogue_entry", "absence"} {
		if before[table] == 0 {
			t.Errorf("nothing of the workspace is in %s to be deleted", table)
		}
	}
	if err := s.DeleteWorkspace(ctx, w); err != nil {
		t.Fatal(err)
	}
	for table, n := range records(t, s, w, run) {
		if n > 0 {
			t.Errorf("%d records are left in %s", n, table)
		}
	}
	if after := records(t, s, theirs, kept); after["batch"] == 0 || after["row_block"] == 0 || after["policy"] == 0 {
		t.Errorf("of the other workspace is left: %v", after)
	}
	if err := s.DeleteWorkspace(ctx, w); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("deleted twice: %v", err)
	}
}

// TestBrokenOffDeletion: a workspace whose deletion is broken off has nobody in it, and a job
// deletes the rest; one that is being deleted is left to who does.
func TestBrokenOffDeletion(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	run := fill(t, s, w)
	if err := s.EndWorkspace(ctx, w); err != nil {
		t.Fatal(err)
	}
	if err := s.EndWorkspace(ctx, w); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("ended twice: %v", err)
	}
	if again, err := s.WorkspaceNamed(ctx, "ours"); err != nil || again.ID == w {
		t.Errorf("one of its name is made, and is %d, %v", again.ID, err)
	}
	left := func() (n int) {
		for _, k := range records(t, s, w, run) {
			n += k
		}
		return n
	}
	if err := s.DeleteEnded(ctx); err != nil || left() == 0 {
		t.Errorf("what is being deleted was deleted by another, %v", err)
	}
	if _, err := s.Pool().Exec(ctx, "UPDATE workspace SET ended_at = now() - interval '10 minutes' WHERE id = $1", w); err != nil {
		t.Fatal(err)
	}
	if err := s.DeleteEnded(ctx); err != nil || left() > 0 {
		t.Errorf("%d records are left, %v", left(), err)
	}
}

// TestParallelDeletions: many delete the same list and its workspace at once. One does, the
// others find nothing, and nothing is left.
func TestParallelDeletions(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	run := fill(t, s, w)
	var all sync.WaitGroup
	var done atomic.Int32
	for n := range 12 {
		all.Go(func() {
			err := s.DeleteList(ctx, w, run.ListID)
			if n%4 == 0 {
				err = s.DeleteWorkspace(ctx, w)
			}
			if err == nil {
				done.Add(1)
			} else if !errors.Is(err, store.ErrNotFound) {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if done.Load() == 0 {
		t.Error("nobody deleted anything")
	}
	sweep(t, s)
	for table, n := range records(t, s, w, run) {
		if n > 0 {
			t.Errorf("%d records are left in %s", n, table)
		}
	}
}

// sweep removes what is left of what is deleted.
func sweep(t *testing.T, s *store.Store) {
	t.Helper()
	if err := s.SweepAll(t.Context()); err != nil {
		t.Fatal(err)
	}
	if has, err := s.HasRemains(t.Context()); err != nil || has {
		t.Errorf("something remains: %v, %v", has, err)
	}
}

// TestSweep: what is deleted is removed in steps, each in a transaction of its own, and what is beside it
// stays.
func TestSweep(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	run, kept := newRun(t, s, w, 3), newRun(t, s, w, 3)
	for range 1200 { // batches
		concludeSome(t, s, run, answered(1, finding.MailboxAccepted, "250"))
	}
	concludeSome(t, s, kept, answered(1, finding.MailboxAccepted, "250"))
	if err := s.DeleteList(ctx, w, run.ListID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.List(ctx, w, run.ListID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the list is there: %v", err)
	}
	swept, more, err := s.Sweep(ctx)
	if err != nil || !more || swept != 500 {
		t.Errorf("the first step removes %d, %v, %v", swept, more, err)
	}
	if n := records(t, s, -1, run)["batch"]; n != 700 {
		t.Errorf("%d batches are left after it", n)
	}
	sweep(t, s)
	for table, n := range records(t, s, -1, run) {
		if n > 0 {
			t.Errorf("%d records are left in %s", n, table)
		}
	}
	if n := records(t, s, -1, kept); n["batch"] != 1 || n["row_block"] != 1 {
		t.Errorf("of the other list is left: %v", n)
	}
}

// fill returns a workspace something of everything.
func fill(t *testing.T, s *store.Store, w int64) store.Run {
	t.Helper()
	ctx := t.Context()
	run := newRun(t, s, w, 6)
	concludeSome(t, s, run, answered(1, finding.MailboxAccepted, "250"), answered(2, finding.MailboxAbsent, "550"))
	_, err := s.SetOverrides(ctx, run.ListID, []int32{1}, policy.Drop)
	for _, step := range []func() error{
		func() error { return s.AddParcels(ctx, []store.Parcel{parcel(run, 1, time.Now(), 3, 4)}) },
		func() error {
			return s.ReplaceRunDomains(ctx, run.ID, []store.RunDomain{{Domain: "fernhollow.example", Operator: "fernhollow.example"}})
		},
		func() error { _, err := s.SavePolicy(ctx, w, policy.Policy{Name: "mine"}); return err },
		func() error {
			_, err := s.Pool().Exec(ctx, "INSERT INTO catalogue_entry (workspace_id, kind, name, \"except\") VALUES ($1, 'role', 'captain', false)", w)
			return err
		},
		func() error {
			_, err := s.Pool().Exec(ctx, "INSERT INTO upload (workspace_id, key, size) VALUES ($1, 'spring', 10)", w)
			return err
		},
		func() error {
			_, err := s.Pool().Exec(ctx, "INSERT INTO absence (workspace_id, fingerprint, at) VALUES ($1, '\\x01', now())", w)
			return err
		},
	} {
		if err == nil {
			err = step()
		}
	}
	if err != nil {
		t.Fatal(err)
	}
	return run
}

// records counts what is of a workspace in every table, by the columns that name it, its
// list or its run.
func records(t *testing.T, s *store.Store, w int64, run store.Run) map[string]int {
	t.Helper()
	rows, err := s.Pool().Query(t.Context(), `SELECT table_name, column_name FROM information_schema.columns
		JOIN information_schema.tables USING (table_schema, table_name)
		WHERE table_schema = 'public' AND table_type = 'BASE TABLE' AND column_name IN ('workspace_id', 'list_id', 'run_id')
		AND table_name <> 'audit' -- which tells of the deletion, too`)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	of := map[[2]string]int64{}
	for rows.Next() {
		var table, column string
		if err := rows.Scan(&table, &column); err != nil {
			t.Fatal(err)
		}
		of[[2]string{table, column}] = map[string]int64{"workspace_id": w, "list_id": run.ListID, "run_id": run.ID}[column]
	}
	if len(of) < 10 {
		t.Fatalf("%d columns were found: %v", len(of), of)
	}
	out := map[string]int{}
	for where, id := range of {
		var n int
		if err := s.Pool().QueryRow(t.Context(), fmt.Sprintf("SELECT count(*) FROM %q WHERE %q = $1", where[0], where[1]), id).Scan(&n); err != nil {
			t.Fatal(err)
		}
		out[where[0]] += n
	}
	return out
}

// TestListsAreDeletedWhileLanesRecord: who deletes a list and who records results of it
// never wait for each other.
func TestListsAreDeletedWhileLanesRecord(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	for n := range 25 {
		run := newRun(t, s, w, 40)
		var parcels []store.Parcel
		for i := int32(1); i <= 40; i++ {
			parcels = append(parcels, parcel(run, i, time.Now(), i))
		}
		if err := s.AddParcels(ctx, parcels); err != nil {
			t.Fatal(err)
		}
		if err := s.KnowVerdicts(ctx, []store.Concluded{answered(1, finding.MailboxAccepted, "250")}); err != nil {
			t.Fatal(err)
		}
		var lanes sync.WaitGroup
		for lane := range 4 {
			lanes.Go(func() { recordAll(t, s, lane) })
		}
		time.Sleep(time.Duration(n) * 500 * time.Microsecond)
		if err := s.DeleteList(context.WithoutCancel(ctx), w, run.ListID); err != nil {
			t.Errorf("list %d: %v", n, err)
		}
		lanes.Wait()
		sweep(t, s)
		for table, left := range records(t, s, -1, run) {
			if left > 0 {
				t.Errorf("list %d: %d records are left in %s", n, left, table)
			}
		}
	}
	if n := deadlocks(t, s); n > 0 {
		t.Errorf("%d deadlocks", n)
	}
}

// deadlocks counts those of the test's database.
func deadlocks(t *testing.T, s *store.Store) (n int) {
	t.Helper()
	time.Sleep(1100 * time.Millisecond) // statistics are told once a second
	if err := s.Pool().QueryRow(t.Context(), "SELECT deadlocks FROM pg_stat_database WHERE datname = current_database()").Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

// recordAll works the parcels of a lane off until there are none.
func recordAll(t *testing.T, s *store.Store, lane int) {
	for {
		p, err := s.Claim(t.Context(), "op.example", lane)
		if err != nil || p == nil {
			if err != nil {
				t.Errorf("claim: %v", err)
			}
			return
		}
		result := answered(p.Questions[0].Ordinal, finding.MailboxAccepted, "250")
		if _, err := s.RecordParcel(t.Context(), p.ID, lane, pack.ParcelRecord{Acceptances: []probe.Acceptance{}}, []store.Concluded{result}); err != nil {
			t.Errorf("record: %v", err)
			return
		}
	}
}

// TestKeysMadeAtOnce: each caller is given its own.
func TestKeysMadeAtOnce(t *testing.T) {
	s, ctx := open(t), t.Context()
	w := workspace(t, s, "ours")
	var made sync.WaitGroup
	for n := range 20 {
		made.Go(func() {
			name := fmt.Sprint("key ", n)
			text := rand.Text()
			k, err := s.NewKey(ctx, w, text, store.KeyTerms{Name: name, Scopes: []string{"read"}})
			if err != nil {
				t.Error(err)
				return
			}
			of, err := s.OpenedBy(ctx, text, here)
			if err != nil || of.WorkspaceID != w || of.KeyID != k.ID || k.Name != name {
				t.Errorf("%s was given %+v, which opens %+v, %v", name, k, of, err)
			}
		})
	}
	made.Wait()
}

// TestNewerSchemaIsRefused: a release touches no database that a newer one has migrated,
// and one that is behind is told what to do.
func TestNewerSchemaIsRefused(t *testing.T) {
	s, ctx := open(t), t.Context()
	knows := migrate.Known()
	if has, err := s.Schema(ctx); err != nil || has != knows || s.CheckSchema(ctx) != nil {
		t.Fatalf("schema %d of %d, %v", has, knows, err)
	}
	set := func(sql string) {
		if _, err := s.Pool().Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	set(fmt.Sprintf("INSERT INTO goose_db_version (version_id, is_applied) VALUES (%d, true)", knows+3))
	var newer migrate.Newer
	for what, err := range map[string]error{"migrated": s.Migrate(ctx), "checked": s.CheckSchema(ctx)} {
		if !errors.As(err, &newer) || newer != (migrate.Newer{Has: knows + 3, Knows: knows}) {
			t.Errorf("a newer one is %s: %v", what, err)
		}
	}
	set(fmt.Sprintf("DELETE FROM goose_db_version WHERE version_id >= %d", knows))
	if err := s.CheckSchema(ctx); err == nil || !strings.Contains(err.Error(), "varnet migrate") {
		t.Errorf("one behind: %v", err)
	}
}

package store

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// ofRun, ofList and ofWorkspace are the tables that know a run, a list or a workspace by its ID
// alone: without a foreign key, which bulk would pay for at every record.
var (
	ofRun  = []string{"batch", "latest_part", "latest_fold", "tally", "run_domain"}
	ofList = []string{"row_block", "list_domain", "list_part"}

	ofWorkspace = []string{"absence"}
)

// DeleteList deletes a list with its rows, runs, results and evidence; what its runs found
// absent is remembered. Nobody sees anything of it any more; its bulk is removed by Sweep.
func (s *Store) DeleteList(ctx context.Context, workspace, id int64) error {
	if _, err := s.List(ctx, workspace, id); err != nil {
		return err
	}
	runs, err := s.AllRuns(ctx, id)
	if err == nil {
		err = s.rememberAbsent(ctx, runs...) // many absences are not remembered in one transaction
	}
	if err != nil {
		return err
	}
	return s.retryDeadlocks(ctx, func(s *Store) error {
		if _, err := s.List(ctx, workspace, id); err != nil {
			return err
		}
		// Of a workspace that ends meanwhile nothing is to be remembered.
		if tag, err := s.db.Exec(ctx, "SELECT FROM workspace WHERE id = $1 AND ended_at IS NULL FOR KEY SHARE", workspace); err != nil || tag.RowsAffected() == 0 {
			return cmp.Or(err, ErrNotFound)
		}
		return s.deleteList(ctx, id)
	})
}

// deleteList deletes a list and leaves its bulk as remains. The list comes first, so that no run
// of it begins meanwhile; then its runs: whoever records results at this moment holds the run (see
// heldRun), is waited for, and theirs go with the others.
func (s *Store) deleteList(ctx context.Context, id int64) error {
	if _, err := s.db.Exec(ctx, "SELECT FROM list WHERE id = $1 FOR UPDATE", id); err != nil {
		return err
	}
	if _, err := s.db.Exec(ctx, "WITH gone AS (DELETE FROM run WHERE list_id = $1 RETURNING id) INSERT INTO remains (of_list, id) SELECT false, id FROM gone", id); err != nil {
		return err
	}
	_, err := s.db.Exec(ctx, "WITH gone AS (DELETE FROM list WHERE id = $1 RETURNING id) INSERT INTO remains (of_list, id) SELECT true, id FROM gone", id)
	return err
}

// sweepAtOnce is how many records of a table are removed in one transaction.
const sweepAtOnce = 500

// Sweep removes some of what is left of lists and runs that are deleted, in a transaction of some
// records; swept is how many, and more reports that there may be others.
func (s *Store) Sweep(ctx context.Context) (swept int64, more bool, err error) {
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		var list bool
		var id int64
		err := s.db.QueryRow(ctx, "SELECT of_list, id FROM remains ORDER BY of_list, id LIMIT 1 FOR UPDATE").Scan(&list, &id)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return err
		}
		more = true
		tables, column := ofRun, "run_id"
		if list {
			tables, column = ofList, "list_id"
		}
		for _, table := range tables {
			tag, err := s.db.Exec(ctx, "DELETE FROM "+table+" WHERE ctid = ANY(ARRAY(SELECT ctid FROM "+table+" WHERE "+column+" = $1 LIMIT $2))", id, sweepAtOnce)
			if swept += tag.RowsAffected(); err != nil || swept > 0 {
				return err
			}
		}
		_, err = s.db.Exec(ctx, "DELETE FROM remains WHERE of_list = $1 AND id = $2", list, id)
		return err
	})
	return swept, more, err
}

// SweepAll removes all that is left of lists and runs that are deleted, and lets the space be used
// again.
func (s *Store) SweepAll(ctx context.Context) error {
	all := int64(0)
	for {
		if all > 0 { // mostly there is nothing to sweep
			s.giveWay(ctx)
		}
		swept, more, err := s.Sweep(ctx)
		if err != nil {
			return err
		}
		if all += swept; !more {
			break
		}
	}
	if all < vacuumFrom {
		return nil
	}
	// A role that does not own the tables is warned and does nothing: they are vacuumed by themselves, later.
	for _, table := range slices.Concat(ofRun, ofList) {
		if _, err := s.db.Exec(ctx, "VACUUM (SKIP_LOCKED) "+table); err != nil {
			return err
		}
	}
	return nil
}

// vacuumFrom is how many records are removed before it is worth the while to look through their tables.
const vacuumFrom = 1000

// HasRemains reports whether something is to be swept.
func (s *Store) HasRemains(ctx context.Context) (has bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM remains)").Scan(&has)
	return has, err
}

// OrderDeletion has a workspace deleted at a time, unless it is to be already.
func (s *Store) OrderDeletion(ctx context.Context, id int64, at time.Time, by string) error {
	return s.changed(ctx, "UPDATE workspace SET delete_at = coalesce(delete_at, $2), delete_by = CASE WHEN delete_at IS NULL THEN $3 ELSE delete_by END WHERE id = $1 AND ended_at IS NULL", id, at, by)
}

// StopDeletion keeps a workspace that was to be deleted; ErrNotFound tells that it was not.
func (s *Store) StopDeletion(ctx context.Context, id int64) error {
	return s.changed(ctx, "UPDATE workspace SET delete_at = NULL, delete_by = '' WHERE id = $1 AND delete_at IS NOT NULL AND ended_at IS NULL", id)
}

// DueDeletions returns the workspaces whose time to be deleted has come.
func (s *Store) DueDeletions(ctx context.Context, now time.Time) ([]int64, error) {
	return column[int64](ctx, s.db, "SELECT id FROM workspace WHERE delete_at <= $1 AND ended_at IS NULL ORDER BY id", now)
}

// DeleteWorkspace deletes a workspace with all that is of it. From the beginning nobody is in
// it; where it is broken off, DeleteEnded goes on.
func (s *Store) DeleteWorkspace(ctx context.Context, id int64) error {
	if err := s.EndWorkspace(ctx, id); err != nil {
		return err
	}
	return s.deleteEnded(ctx, id)
}

// EndWorkspace takes everybody and every key out of a workspace that is to be deleted.
func (s *Store) EndWorkspace(ctx context.Context, id int64) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if err := s.changed(ctx, "UPDATE workspace SET ended_at = now() WHERE id = $1 AND ended_at IS NULL", id); err != nil {
			return err
		}
		for _, sql := range []string{"DELETE FROM member WHERE workspace_id = $1", "DELETE FROM invitation WHERE workspace_id = $1", "DELETE FROM key WHERE workspace_id = $1",
			"UPDATE person_session SET workspace_id = NULL WHERE workspace_id = $1"} {
			if _, err := s.db.Exec(ctx, sql, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// DeleteEnded deletes the workspaces whose deletion was broken off.
func (s *Store) DeleteEnded(ctx context.Context) error {
	ended, err := many[struct{ ID int64 }](ctx, s.db, "SELECT id FROM workspace WHERE ended_at < now() - interval '5 minutes' ORDER BY id")
	for _, w := range ended {
		if err == nil {
			err = s.deleteEnded(ctx, w.ID)
		}
		if errors.Is(err, ErrNotFound) { // another process was quicker
			err = nil
		}
	}
	return err
}

func (s *Store) deleteEnded(ctx context.Context, id int64) error {
	lists, err := column[int64](ctx, s.db, "SELECT id FROM list WHERE workspace_id = $1 ORDER BY id", id)
	if err != nil {
		return err
	}
	for _, l := range lists { // each by itself: no lock is held for long
		if err := s.retryDeadlocks(ctx, func(s *Store) error { return s.deleteList(ctx, l) }); err != nil {
			return err
		}
	}
	if err := s.SweepAll(ctx); err != nil {
		return err
	}
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if err := s.changed(ctx, "DELETE FROM workspace WHERE id = $1", id); err != nil {
			return err
		}
		// Books are kept for as long as the law wants them: numbers, papers, and no name of a list.
		if _, err := s.db.Exec(ctx, "UPDATE reservation SET list = '' WHERE workspace_id = $1", id); err != nil {
			return err
		}
		for _, table := range ofWorkspace {
			if _, err := s.db.Exec(ctx, "DELETE FROM "+table+" WHERE workspace_id = $1", id); err != nil {
				return err
			}
		}
		return nil
	})
}

// mostTries is how often a transaction is tried that ends in a deadlock.
const mostTries = 5

// retryDeadlocks calls do in a transaction, and again where it was given up for a deadlock:
// the other transaction has gone on then.
func (s *Store) retryDeadlocks(ctx context.Context, do func(*Store) error) (err error) {
	for range mostTries {
		err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error { return do(s) })
		var told *pgconn.PgError
		if !errors.As(err, &told) || told.Code != "40P01" {
			break
		}
	}
	return err
}

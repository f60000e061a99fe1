package store

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// ofRun and ofList are the tables that know a run, or a list, by its ID alone: without a
// foreign key, which bulk would pay for at every record.
var (
	ofRun  = []string{"batch", "tally", "run_domain"}
	ofList = []string{"row_block", "list_domain", "list_part"}
)

// DeleteList deletes a list with its rows, runs, results and evidence; what its runs found
// absent is remembered.
func (s *Store) DeleteList(ctx context.Context, workspace, id int64) error {
	return s.retryDeadlocks(ctx, func(s *Store) error {
		if _, err := s.List(ctx, workspace, id); err != nil {
			return err
		}
		if err := s.rememberAbsentOf(ctx, id); err != nil {
			return err
		}
		return s.deleteList(ctx, id)
	})
}

// deleteList deletes what is of a list. The list comes first, so that no run of it begins
// meanwhile; then its runs: whoever records results at this moment holds the run (see
// heldRun), is waited for, and theirs go with the others.
func (s *Store) deleteList(ctx context.Context, id int64) error {
	if _, err := s.db.Exec(ctx, "SELECT FROM list WHERE id = $1 FOR UPDATE", id); err != nil {
		return err
	}
	rows, err := s.db.Query(ctx, "DELETE FROM run WHERE list_id = $1 RETURNING id", id)
	if err != nil {
		return err
	}
	runs, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return err
	}
	for _, table := range ofRun {
		if _, err := s.db.Exec(ctx, "DELETE FROM "+table+" WHERE run_id = ANY($1)", runs); err != nil {
			return err
		}
	}
	for _, table := range ofList {
		if _, err := s.db.Exec(ctx, "DELETE FROM "+table+" WHERE list_id = $1", id); err != nil {
			return err
		}
	}
	_, err = s.db.Exec(ctx, "DELETE FROM list WHERE id = $1", id)
	return err
}

// DeleteWorkspace deletes a workspace with all that is of it.
func (s *Store) DeleteWorkspace(ctx context.Context, id int64) error {
	rows, err := s.db.Query(ctx, "SELECT id FROM list WHERE workspace_id = $1 ORDER BY id", id)
	if err != nil {
		return err
	}
	lists, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return err
	}
	for _, l := range lists { // each by itself: no lock is held for long
		if err := s.retryDeadlocks(ctx, func(s *Store) error { return s.deleteList(ctx, l) }); err != nil {
			return err
		}
	}
	tag, err := s.db.Exec(ctx, "DELETE FROM workspace WHERE id = $1", id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
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

package store

import (
	"bytes"
	"context"

	"github.com/jackc/pgx/v5"

	"varnet/core/policy"
	"varnet/internal/store/pack"
)

// Policies returns the workspace's own policies, each as it was saved last.
func (s *Store) Policies(ctx context.Context, workspace int64) ([]policy.Policy, error) {
	return column[policy.Policy](ctx, s.db, `SELECT DISTINCT ON (name) body FROM policy WHERE workspace_id = $1 ORDER BY name, version DESC`, workspace)
}

// Policy returns a policy of the workspace's own: a version of it, or (0) the
// last.
func (s *Store) Policy(ctx context.Context, workspace int64, name string, version int) (policy.Policy, error) {
	found, err := column[policy.Policy](ctx, s.db, `SELECT body FROM policy WHERE workspace_id = $1 AND name = $2 AND ($3::bigint = 0 OR version = $3)
		ORDER BY version DESC LIMIT 1`, workspace, name, version)
	if err != nil || len(found) == 0 {
		return policy.Policy{}, orNotFound(err)
	}
	return found[0], nil
}

// SavePolicy records a policy of the workspace's own as a new version, unless
// it is as it was, and gives it with its version. The workspace is locked, so
// that two changes at once get versions of their own.
func (s *Store) SavePolicy(ctx context.Context, workspace int64, p policy.Policy) (policy.Policy, error) {
	err := s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if _, err := s.db.Exec(ctx, "SELECT FROM workspace WHERE id = $1 FOR NO KEY UPDATE", workspace); err != nil {
			return err
		}
		last, err := s.Policy(ctx, workspace, p.Name, 0)
		if err != nil && err != ErrNotFound {
			return err
		}
		if p.Version = last.Version; p.Version > 0 && same(p, last) {
			return nil
		}
		p.Version++
		_, err = s.db.Exec(ctx, "INSERT INTO policy (workspace_id, name, version, body) VALUES ($1, $2, $3, $4)", workspace, p.Name, p.Version, p)
		return err
	})
	return p, err
}

// same reports whether two policies are kept alike.
func same(a, b policy.Policy) bool {
	one, _ := pack.Marshal(a) // a policy can always be written
	other, _ := pack.Marshal(b)
	return bytes.Equal(one, other)
}

// DeletePolicy deletes a policy of the workspace's own; runs keep theirs.
func (s *Store) DeletePolicy(ctx context.Context, workspace int64, name string) error {
	tag, err := s.db.Exec(ctx, "DELETE FROM policy WHERE workspace_id = $1 AND name = $2", workspace, name)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// SetPolicy lets another policy decide on a run; nobody is asked again.
func (s *Store) SetPolicy(ctx context.Context, workspace, run int64, p policy.Policy) error {
	tag, err := s.db.Exec(ctx, "UPDATE run SET policy = $3 WHERE workspace_id = $1 AND id = $2", workspace, run, p)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

func orNotFound(err error) error {
	if err == nil {
		return ErrNotFound
	}
	return err
}

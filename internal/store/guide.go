package store

import "context"

// Guide is how far a workspace is with its first steps.
type Guide struct {
	List int64 // the newest list; 0: none yet
	Run  int64 // the newest run that came to its end; 0: none yet
}

// Guide returns how far a workspace is.
func (s *Store) Guide(ctx context.Context, workspace int64) (Guide, error) {
	return one[Guide](ctx, s.db, `SELECT coalesce((SELECT max(id) FROM list WHERE workspace_id = $1), 0) AS list,
		coalesce((SELECT max(id) FROM run WHERE workspace_id = $1 AND finished_at IS NOT NULL), 0) AS run`, workspace)
}

// EndGuide ends the first steps of a workspace, if they have not ended.
func (s *Store) EndGuide(ctx context.Context, workspace int64) error {
	_, err := s.db.Exec(ctx, "UPDATE workspace SET guided_at = now() WHERE id = $1 AND guided_at IS NULL", workspace)
	return err
}

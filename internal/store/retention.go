package store

import (
	"context"
	"time"
)

// DueList is a list whose time has come, or comes at EndsAt.
type DueList struct {
	WorkspaceID, ID int64
	Name            string
	EndsAt          time.Time
}

// due are in SQL the lists that were kept for as long as they are to be, $1 from now. One with
// a run that is not at its end stays until it is. In each workspace, only those are looked at that are
// old enough (OFFSET 0: by its index, never through all lists), and the few that have a time of their own.
const due = `WITH old AS (
		SELECT l.* FROM (SELECT w.id, least(nullif(w.keep_days, 0), i.max_keep_days) AS days FROM workspace w, installation i) w
		CROSS JOIN LATERAL (SELECT l.workspace_id, l.id, l.name, l.created_at, l.end_told_at, w.days FROM list l
			WHERE l.workspace_id = w.id AND l.keep_days IS NULL AND l.created_at < now() + $1::interval - make_interval(days => w.days) OFFSET 0) l
		UNION ALL
		SELECT l.workspace_id, l.id, l.name, l.created_at, l.end_told_at, k.days FROM list l, installation i
		CROSS JOIN LATERAL (SELECT least(nullif(l.keep_days, 0), i.max_keep_days) AS days) k
		WHERE l.keep_days IS NOT NULL AND l.created_at < now() + $1::interval - make_interval(days => k.days)),
	due AS (
		SELECT l.workspace_id, l.id, l.name, l.end_told_at, greatest(l.created_at, r.last) + make_interval(days => l.days) AS ends_at
		FROM old l CROSS JOIN LATERAL (SELECT max(finished_at) AS last, bool_or(state IN ('drafted', 'running', 'paused')) AS going FROM run WHERE list_id = l.id) r
		WHERE r.going IS NOT TRUE AND (r.last IS NULL OR r.last <= now() + $1::interval - make_interval(days => l.days)))`

// DueLists returns lists whose time has come.
func (s *Store) DueLists(ctx context.Context, limit int) ([]DueList, error) {
	return many[DueList](ctx, s.db, due+" SELECT workspace_id, id, name, ends_at FROM due ORDER BY id LIMIT $2", time.Duration(0), limit)
}

// EndingLists returns lists whose time comes within some time, each once.
func (s *Store) EndingLists(ctx context.Context, within time.Duration, limit int) ([]DueList, error) {
	return many[DueList](ctx, s.db, due+`, ending AS (SELECT * FROM due WHERE end_told_at IS NULL ORDER BY id LIMIT $2)
		UPDATE list SET end_told_at = now() FROM ending WHERE list.id = ending.id RETURNING ending.workspace_id, ending.id, ending.name, ending.ends_at`, within, limit)
}

// KeepDays returns for how many days a workspace's lists are kept, and the most that the
// installation allows any list; 0: until somebody deletes them, and any time.
func (s *Store) KeepDays(ctx context.Context, workspace int64) (days, most int, err error) {
	err = s.db.QueryRow(ctx, "SELECT w.keep_days, coalesce(i.max_keep_days, 0) FROM workspace w, installation i WHERE w.id = $1", workspace).Scan(&days, &most)
	return days, most, err
}

// SetKeepDays changes for how long lists are kept.
func (s *Store) SetKeepDays(ctx context.Context, workspace int64, days int) error {
	_, err := s.db.Exec(ctx, "UPDATE workspace SET keep_days = $2 WHERE id = $1", workspace, days)
	return err
}

package store

import (
	"context"

	"varnet/core/catalogue"
)

// CatalogueEntries gives the workspace's own entries.
func (s *Store) CatalogueEntries(ctx context.Context, workspace int64) ([]catalogue.Entry, error) {
	return many[catalogue.Entry](ctx, s.db, `SELECT kind, name, "except" FROM catalogue_entry WHERE workspace_id = $1 ORDER BY kind, name`, workspace)
}

// SaveCatalogueEntries adds entries, or changes those that are there.
func (s *Store) SaveCatalogueEntries(ctx context.Context, workspace int64, entries []catalogue.Entry) error {
	var kinds, names []string
	var excepts []bool
	for _, e := range entries {
		kinds, names, excepts = append(kinds, string(e.Kind)), append(names, e.Name), append(excepts, e.Except)
	}
	_, err := s.db.Exec(ctx, `
		INSERT INTO catalogue_entry (workspace_id, kind, name, "except")
		SELECT DISTINCT ON (kind, name) $1::bigint, kind, name, without FROM unnest($2::text[], $3::text[], $4::boolean[]) AS e (kind, name, without)
		ON CONFLICT (workspace_id, kind, name) DO UPDATE SET "except" = EXCLUDED."except"`, workspace, kinds, names, excepts)
	return err
}

// DeleteCatalogueEntry takes an entry of the workspace's own back.
func (s *Store) DeleteCatalogueEntry(ctx context.Context, workspace int64, kind catalogue.Kind, name string) error {
	tag, err := s.db.Exec(ctx, "DELETE FROM catalogue_entry WHERE workspace_id = $1 AND kind = $2 AND name = $3", workspace, string(kind), name)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

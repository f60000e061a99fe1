package store

import (
	"context"
	"time"

	"varnet/core/catalogue"
)

// CatalogueSource is a catalogue that a workspace follows.
type CatalogueSource struct {
	ID          int64
	WorkspaceID int64
	Kind        catalogue.Kind
	URL         string `db:"url"`
	ETag        string `db:"etag"`
	ReadAt      *time.Time
	ChangedAt   *time.Time
	Entries     int32
	Added       int32
	Removed     int32
	Problem     string
}

const catalogueSourceColumns = "id, workspace_id, kind, url, etag, read_at, changed_at, entries, added, removed, problem"

// CatalogueSources returns what a workspace follows.
func (s *Store) CatalogueSources(ctx context.Context, workspace int64) ([]CatalogueSource, error) {
	return many[CatalogueSource](ctx, s.db, "SELECT "+catalogueSourceColumns+" FROM catalogue_source WHERE workspace_id = $1 ORDER BY id", workspace)
}

// CatalogueSource returns one that a workspace follows.
func (s *Store) CatalogueSource(ctx context.Context, workspace, id int64) (CatalogueSource, error) {
	return one[CatalogueSource](ctx, s.db, "SELECT "+catalogueSourceColumns+" FROM catalogue_source WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// DueCatalogueSources returns those of all workspaces that were last read before a time.
func (s *Store) DueCatalogueSources(ctx context.Context, before time.Time, most int) ([]CatalogueSource, error) {
	return many[CatalogueSource](ctx, s.db, "SELECT "+catalogueSourceColumns+` FROM catalogue_source
		WHERE read_at IS NULL OR read_at < $1 ORDER BY read_at NULLS FIRST LIMIT $2`, before, most)
}

// FollowCatalogue makes a workspace follow a catalogue; one that it follows already stays
// as it is.
func (s *Store) FollowCatalogue(ctx context.Context, workspace int64, kind catalogue.Kind, url string) (CatalogueSource, error) {
	return one[CatalogueSource](ctx, s.db, `INSERT INTO catalogue_source (workspace_id, kind, url) VALUES ($1, $2, $3)
		ON CONFLICT (workspace_id, kind, url) DO UPDATE SET url = EXCLUDED.url RETURNING `+catalogueSourceColumns, workspace, string(kind), url)
}

// UnfollowCatalogue ends it, and what it said.
func (s *Store) UnfollowCatalogue(ctx context.Context, workspace, id int64) error {
	tag, err := s.db.Exec(ctx, "DELETE FROM catalogue_source WHERE workspace_id = $1 AND id = $2", workspace, id)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// SaveCatalogueProblem records that a source could not be read; what it said before stays.
// No problem records that it says what it said.
func (s *Store) SaveCatalogueProblem(ctx context.Context, id int64, problem string, at time.Time) error {
	_, err := s.db.Exec(ctx, "UPDATE catalogue_source SET read_at = $2, problem = $3 WHERE id = $1", id, at, problem)
	return err
}

// SaveCatalogueSource records what a source says now.
func (s *Store) SaveCatalogueSource(ctx context.Context, id int64, names []string, etag string, at time.Time) error {
	_, err := s.db.Exec(ctx, `
		WITH now AS (SELECT DISTINCT name FROM unnest($2::text[]) AS n (name)),
		gone AS (DELETE FROM catalogue_source_entry e WHERE source_id = $1 AND NOT EXISTS (SELECT FROM now WHERE now.name = e.name) RETURNING 1),
		new AS (INSERT INTO catalogue_source_entry SELECT $1, name FROM now ON CONFLICT DO NOTHING RETURNING 1),
		changed AS (SELECT (SELECT count(*) FROM new) AS added, (SELECT count(*) FROM gone) AS removed)
		UPDATE catalogue_source SET read_at = $4, problem = '', etag = $3, entries = (SELECT count(*) FROM now),
			added = CASE WHEN c.added + c.removed > 0 THEN c.added ELSE catalogue_source.added END,
			removed = CASE WHEN c.added + c.removed > 0 THEN c.removed ELSE catalogue_source.removed END,
			changed_at = CASE WHEN c.added + c.removed > 0 THEN $4 ELSE changed_at END
		FROM changed c WHERE id = $1`, id, names, etag, at)
	return err
}

// AllCatalogueEntries returns what counts in a workspace beside the shipped catalogues:
// what it follows, and its own entries behind, which go before.
func (s *Store) AllCatalogueEntries(ctx context.Context, workspace int64) (all []catalogue.Entry, err error) {
	err = s.ask(ctx, catalogueEntriesOf(&all, workspace))
	return all, err
}

func catalogueEntriesOf(all *[]catalogue.Entry, workspace int64) question {
	return records(all, `
		SELECT kind, name, "except" FROM (
			SELECT s.kind, e.name, false AS "except", 0 AS own FROM catalogue_source s JOIN catalogue_source_entry e ON e.source_id = s.id WHERE s.workspace_id = $1
			UNION ALL SELECT kind, name, "except", 1 FROM catalogue_entry WHERE workspace_id = $1) all_of_them
		ORDER BY own, kind, name`, workspace)
}

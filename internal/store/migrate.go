package store

import (
	"context"

	"varnet/internal/store/migrate"
)

// Migrate brings the schema up to date; one that is newer than this release knows is an
// error.
func (s *Store) Migrate(ctx context.Context) error { return migrate.Up(ctx, s.sessions) }

// ServeAs gives a database role what service and workers need, and nothing to change the
// audit trail or the schema with.
func (s *Store) ServeAs(ctx context.Context, role string) error {
	return migrate.ServeAs(ctx, s.sessions, role)
}

// ReadAs gives a database role what queries of one's own need.
func (s *Store) ReadAs(ctx context.Context, role string) error {
	return migrate.ReadAs(ctx, s.sessions, role)
}

// Schema returns the schema that the database has; 0: none yet.
func (s *Store) Schema(ctx context.Context) (int64, error) { return migrate.Version(ctx, s.sessions) }

// Empty reports whether the database has no table of anybody's.
func (s *Store) Empty(ctx context.Context) (empty bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT NOT EXISTS (SELECT FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', 'information_schema'))").Scan(&empty)
	return empty, err
}

// Settle has the database look at what was restored, so that queries are planned well.
func (s *Store) Settle(ctx context.Context) error {
	_, err := s.db.Exec(ctx, "ANALYZE")
	return err
}

// CheckSchema returns an error unless the database has the schema that this release needs.
func (s *Store) CheckSchema(ctx context.Context) error { return migrate.Check(ctx, s.sessions) }

package store

import (
	"context"

	"varnet/internal/store/migrate"
)

// Migrate brings the schema up to date; one that is newer than this release knows is an
// error.
func (s *Store) Migrate(ctx context.Context) error { return migrate.Up(ctx, s.pool) }

// ServeAs gives a database role what service and workers need, and nothing to change the
// audit trail or the schema with.
func (s *Store) ServeAs(ctx context.Context, role string) error {
	return migrate.ServeAs(ctx, s.pool, role)
}

// Schema returns the schema that the database has; 0: none yet.
func (s *Store) Schema(ctx context.Context) (int64, error) { return migrate.Version(ctx, s.pool) }

// CheckSchema returns an error unless the database has the schema that this release needs.
func (s *Store) CheckSchema(ctx context.Context) error { return migrate.Check(ctx, s.pool) }

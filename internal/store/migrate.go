package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// migrationLock keeps processes that start at once from migrating together.
const migrationLock = 7201_1871

// Migrate brings the schema up to date, Varnet's own and the job engine's. One that is
// newer than this release knows is an error.
func (s *Store) Migrate(ctx context.Context) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock($1)", migrationLock); err != nil {
		return err
	}
	defer func() {
		_, _ = conn.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", migrationLock)
	}()
	db := stdlib.OpenDBFromPool(s.pool)
	defer func() { _ = db.Close() }()
	if err := migrateOwn(ctx, db); err != nil {
		return fmt.Errorf("migrate the database: %w", err)
	}
	m, err := rivermigrate.New(riverpgxv5.New(s.pool), nil)
	if err != nil {
		return err
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("migrate the job tables: %w", err)
	}
	return nil
}

// migrator returns what brings Varnet's own schema up to date.
func migrator(db *sql.DB) (*goose.Provider, error) {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectPostgres, db, files, goose.WithGoMigrations(toBatches, toBlocks))
}

func migrateOwn(ctx context.Context, db *sql.DB) error {
	p, err := migrator(db)
	if err != nil {
		return err
	}
	has, err := p.GetDBVersion(ctx)
	if err != nil {
		return err
	}
	if knows := newest(p); has > knows {
		return Newer{has, knows}
	}
	_, err = p.Up(ctx)
	return err
}

func newest(p *goose.Provider) int64 {
	all := p.ListSources()
	return all[len(all)-1].Version
}

// Newer is the error for a database that a newer release has migrated.
type Newer struct{ Has, Knows int64 }

func (n Newer) Error() string {
	return fmt.Sprintf("the database has schema %d, and this release knows %d at most; start the release that migrated it, or a newer one", n.Has, n.Knows)
}

// KnownSchema returns the schema that this release knows.
func KnownSchema() int64 {
	p, err := migrator(stdlib.OpenDB(pgx.ConnConfig{}))
	if err != nil {
		panic(err) // they are embedded at build time
	}
	return newest(p)
}

// Schema returns the schema that the database has; 0: none yet.
func (s *Store) Schema(ctx context.Context) (version int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT coalesce(max(version_id), 0) FROM goose_db_version").Scan(&version)
	var told *pgconn.PgError
	if errors.As(err, &told) && told.Code == "42P01" { // undefined_table
		return 0, nil
	}
	return version, err
}

// CheckSchema is nil where the database has the schema that this release knows.
func (s *Store) CheckSchema(ctx context.Context) error {
	has, err := s.Schema(ctx)
	knows := KnownSchema()
	switch {
	case err != nil || has == knows:
		return err
	case has > knows:
		return Newer{has, knows}
	}
	return fmt.Errorf("the database has schema %d, and this release needs %d; run \"varnet migrate\" first", has, knows)
}

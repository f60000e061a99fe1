// Package migrate brings the schema of the database up to date: migrations in SQL and in
// Go, in the order of their numbers. One that has been released is never changed, and one
// in Go uses nothing of the packages that go on changing: it has copies of the forms of
// its time.
package migrate

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed *.sql
var files embed.FS

// lock keeps processes that start at once from migrating together.
const lock = 7201_1871

// Up brings the schema up to date, Varnet's own and that of the job engine. A schema that
// is newer than this release knows is an error (Newer).
func Up(ctx context.Context, pool *pgxpool.Pool) error {
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock($1)", lock); err != nil {
		return err
	}
	defer func() {
		_, _ = conn.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", lock)
	}()
	if err := To(ctx, pool, Known()); err != nil {
		return fmt.Errorf("migrate the database: %w", err)
	}
	m, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return err
	}
	if _, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("migrate the job tables: %w", err)
	}
	return nil
}

// ServeAs gives a role that is not the schema's owner what service and workers need, of later
// migrations, too. Of the audit trail it may read and append, and delete what its trigger lets
// go.
func ServeAs(ctx context.Context, pool *pgxpool.Pool, role string) error {
	return grant(ctx, pool, role, "the service",
		"GRANT USAGE ON SCHEMA public TO ROLE",
		"GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO ROLE",
		"GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO ROLE",
		"ALTER DEFAULT PRIVILEGES IN SCHEMA public GRANT SELECT, INSERT, UPDATE, DELETE ON TABLES TO ROLE",
		"ALTER DEFAULT PRIVILEGES IN SCHEMA public GRANT USAGE, SELECT ON SEQUENCES TO ROLE",
		"REVOKE UPDATE, TRUNCATE ON audit FROM ROLE")
}

// ReadAs gives a role what queries of one's own need: lists, runs and what is known of their
// addresses, and nothing of people, sessions, keys, secrets or the audit trail.
func ReadAs(ctx context.Context, pool *pgxpool.Pool, role string) error {
	return grant(ctx, pool, role, "a reader",
		"GRANT USAGE ON SCHEMA public TO ROLE",
		"GRANT SELECT ON address_now, result_now, parcel_now, list, run, verdict, tally, operator, acceptance TO ROLE",
		"GRANT SELECT (id, name, created_at) ON workspace TO ROLE")
}

// grant runs statements with a role in the place of ROLE.
func grant(ctx context.Context, pool *pgxpool.Pool, role, who string, statements ...string) error {
	name := pgx.Identifier{role}.Sanitize()
	for _, sql := range statements {
		if _, err := pool.Exec(ctx, strings.ReplaceAll(sql, "ROLE", name)); err != nil {
			return fmt.Errorf("give the role %s what %s needs: %w", name, who, err)
		}
	}
	return nil
}

// To brings Varnet's own schema up to a version.
func To(ctx context.Context, pool *pgxpool.Pool, version int64) error {
	db := stdlib.OpenDBFromPool(pool)
	defer func() { _ = db.Close() }()
	p, err := provider(db)
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
	_, err = p.UpTo(ctx, version)
	return err
}

func provider(db *sql.DB) (*goose.Provider, error) {
	return goose.NewProvider(goose.DialectPostgres, db, files, goose.WithGoMigrations(toBatches, toBlocks))
}

// Newer is the error for a database that a newer release has migrated.
type Newer struct{ Has, Knows int64 }

func (n Newer) Error() string {
	return fmt.Sprintf("the database has schema %d, and this release knows %d at most; start the release that migrated it, or a newer one", n.Has, n.Knows)
}

// Known returns the newest schema that this release knows.
func Known() int64 {
	p, err := provider(stdlib.OpenDB(pgx.ConnConfig{}))
	if err != nil {
		panic(err) // they are embedded at build time
	}
	return newest(p)
}

func newest(p *goose.Provider) int64 {
	all := p.ListSources()
	return all[len(all)-1].Version
}

// Version returns the schema that the database has; 0: none yet.
func Version(ctx context.Context, pool *pgxpool.Pool) (version int64, err error) {
	err = pool.QueryRow(ctx, "SELECT coalesce(max(version_id), 0) FROM goose_db_version").Scan(&version)
	var told *pgconn.PgError
	if errors.As(err, &told) && told.Code == "42P01" { // undefined_table
		return 0, nil
	}
	return version, err
}

// Check returns an error unless the database has the schema that this release needs.
func Check(ctx context.Context, pool *pgxpool.Pool) error {
	has, err := Version(ctx, pool)
	knows := Known()
	switch {
	case err != nil || has == knows:
		return err
	case has > knows:
		return Newer{has, knows}
	}
	return fmt.Errorf("the database has schema %d, and this release needs %d; run \"varnet migrate\" first", has, knows)
}

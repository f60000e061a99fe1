package main

import (
	"context"
	"fmt"
	"runtime"
	"runtime/debug"

	"varnet/internal/store"
	"varnet/internal/store/migrate"
)

// release is set when a release is built.
var release = "development"

// version prints what this binary is.
func version(_ context.Context, c *cli, args []string) error {
	if _, err := c.parse(args); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "varnet %s\ncommit %s\n%s %s/%s\nschema %d\n", release, commit(), runtime.Version(), runtime.GOOS, runtime.GOARCH, migrate.Known())
	return nil
}

// commit is what the binary was built from.
func commit() string {
	info, _ := debug.ReadBuildInfo()
	revision, changed := "unknown", ""
	for _, s := range info.Settings {
		switch {
		case s.Key == "vcs.revision":
			revision = s.Value
		case s.Key == "vcs.modified" && s.Value == "true":
			changed = ", with changes"
		}
	}
	return revision + changed
}

// migrateDatabase brings the database up to date apart from the service.
func migrateDatabase(ctx context.Context, c *cli, args []string) error {
	dsn := c.setting("dsn", "VARNET_DSN", "", "the PostgreSQL database")
	if _, err := c.parse(args); err != nil {
		return err
	}
	if *dsn == "" {
		return c.wrongUse("say with -dsn (or VARNET_DSN) where the database is")
	}
	db, err := store.Open(ctx, *dsn)
	if err != nil {
		return err
	}
	defer db.Close()
	before, err := db.Schema(ctx)
	if err == nil {
		err = db.Migrate(ctx)
	}
	if err != nil {
		return err
	}
	now, err := db.Schema(ctx)
	switch {
	case err != nil:
		return err
	case now == before:
		fmt.Fprintf(c.out, "The database has schema %d; nothing was to be done.\n", now)
	default:
		fmt.Fprintf(c.out, "The database went from schema %d to %d.\n", before, now)
	}
	return nil
}

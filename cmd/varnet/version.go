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

func versionCommand() command {
	return command{"version", "", "prints release, commit, Go and the schema that this binary knows", "varnet version", version, nil}
}

func version(c *cli) action {
	return func(context.Context) error {
		return c.sentence(fmt.Sprintf("varnet %s\ncommit %s\n%s %s/%s\nschema %d", release, commit(), runtime.Version(), runtime.GOOS, runtime.GOARCH, migrate.Known()))
	}
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

func migrateCommand() command {
	return command{"migrate", "", "brings the database's schema up to date, apart from the service", "varnet migrate -dsn postgres://varnet@127.0.0.1/varnet", migrateDatabase, nil}
}

func migrateDatabase(c *cli) action {
	dsn := c.databaseItself()
	serveAs := c.flags.String("serve-as", "", "the database role that service and workers use; it is given what they need, and nothing to change the audit trail or the schema with")
	readAs := c.flags.String("read-as", "", "the database role for queries of your own; it is given lists, runs, results and the views, and nothing of people, keys and secrets")
	return func(ctx context.Context) error {
		at, err := dsn()
		if err != nil {
			return err
		}
		db, err := store.Open(ctx, at)
		if err != nil {
			return err
		}
		defer db.Close()
		before, err := db.Schema(ctx)
		if err == nil {
			err = db.Migrate(ctx)
		}
		if err == nil && *serveAs != "" {
			err = db.ServeAs(ctx, *serveAs)
		}
		if err == nil && *readAs != "" {
			err = db.ReadAs(ctx, *readAs)
		}
		if err != nil {
			return err
		}
		now, err := db.Schema(ctx)
		switch {
		case err != nil:
			return err
		case now == before:
			return c.sentence(fmt.Sprintf("The database has schema %d; there was nothing to do.", now))
		}
		return c.sentence(fmt.Sprintf("The database was migrated from schema %d to %d.", before, now))
	}
}

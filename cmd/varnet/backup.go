package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"filippo.io/age"

	"varnet/internal/backup"
	"varnet/internal/store"
	"varnet/internal/store/migrate"
)

func backupCommand() command {
	return command{"backup", "-out FILE", "writes the whole database, as it is at one moment, to a file", "varnet backup -out varnet-2026-11-28.backup -encrypt-to age1…", writeBackup, []command{
		{"key", "-out FILE", "makes a key to encrypt backups to: the private part goes to the file, the public one is printed", "varnet backup key -out backup.key", newBackupKey, nil},
	}}
}

func restoreCommand() command {
	return command{"restore", "-in FILE", "reads a backup into an empty database, all of it or nothing", "varnet restore -in varnet-2026-11-28.backup -key backup.key -dsn postgres://varnet@127.0.0.1/restored", restoreBackup, nil}
}

func newBackupKey(c *cli) action {
	out := c.flags.String("out", "", "the file for the private key, which must not be there yet")
	return func(context.Context) error {
		if *out == "" {
			return c.wrongUse("name with -out the file for the private key")
		}
		public, err := backup.NewKey(*out)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.err, "The private key is in %s. Keep it elsewhere than the backups: whoever has both can read them, and without it nobody can. This is the public one:\n", *out)
		return c.sentence(public)
	}
}

func writeBackup(c *cli) action {
	dsn := c.databaseItself()
	out := c.flags.String("out", "", "the file; - is standard output")
	to := c.setting("encrypt-to", "VARNET_BACKUP_KEYS", "", "the public keys to encrypt it to, with commas between; it is not encrypted unless given")
	return withDatabase(dsn, func(ctx context.Context, db *store.Store) error {
		if *out == "" {
			return c.wrongUse("name with -out the file to write; - is standard output")
		}
		keys, err := backup.PublicKeys(fields(*to))
		if err != nil {
			return c.wrongUse("-encrypt-to: " + err.Error())
		}
		o, err := c.output(*out)
		if err != nil {
			return err
		}
		at, _ := dsn()
		head := backup.Head{Release: release, At: time.Now().UTC().Truncate(time.Second)}
		if head.Schema, err = db.Schema(ctx); err != nil {
			return err
		}
		var size counter
		if err := o.write(func(w io.Writer) error { return backup.Write(ctx, at, io.MultiWriter(w, &size), head, keys) }); err != nil {
			return err
		}
		how := ""
		if len(keys) > 0 {
			how = ", encrypted"
		}
		fmt.Fprintf(c.words(o), "The database of %s (schema %d) was written: %.1f MB%s. The installation's secret is not in it: keep that, too, and elsewhere.\n",
			head.At.Format("2006-01-02 15:04:05 UTC"), head.Schema, float64(size)/1e6, how)
		return nil
	})
}

// counter counts bytes.
type counter int64

func (n *counter) Write(b []byte) (int, error) {
	*n += counter(len(b))
	return len(b), nil
}

func restoreBackup(c *cli) action {
	dsn := c.databaseItself()
	name := c.flags.String("in", "", "the backup; - is standard input")
	keyFile := c.flags.String("key", "", "the file with the private key, for one that is encrypted")
	return func(ctx context.Context) error {
		if *name == "" {
			return c.wrongUse("name with -in the backup to read; - is standard input")
		}
		at, err := dsn()
		if err != nil {
			return err
		}
		in, err := c.open(*name)
		if err != nil {
			return err
		}
		defer in.Close()
		var key age.Identity
		if *keyFile != "" {
			if key, err = backup.PrivateKey(*keyFile); err != nil {
				return err
			}
		}
		db, err := store.Open(ctx, at)
		if err != nil {
			return err
		}
		defer db.Close()
		head, err := backup.Restore(ctx, at, in, key, func(h backup.Head) error { return restorable(ctx, db, h) })
		if err != nil {
			return fmt.Errorf("nothing was restored: %w", err)
		}
		if err := db.Settle(ctx); err != nil {
			return err
		}
		return c.sentence(fmt.Sprintf("The database is as it was at %s (release %s, schema %d). Give it the secret of that installation, and start the service; runs that were going on go on.",
			head.At.Format("2006-01-02 15:04:05 UTC"), head.Release, head.Schema))
	}
}

// restorable refuses a backup that this release cannot read, or a database with something in it.
func restorable(ctx context.Context, db *store.Store, h backup.Head) error {
	if knows := migrate.Known(); h.Schema > knows {
		return fmt.Errorf("the backup has schema %d, of release %s, and this release knows %d at most; restore it with that release, or a newer one", h.Schema, h.Release, knows)
	}
	empty, err := db.Empty(ctx)
	if err == nil && !empty {
		err = errors.New("there is something in the database already; name an empty one with -dsn, as createdb makes it")
	}
	return err
}

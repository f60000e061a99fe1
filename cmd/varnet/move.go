package main

import (
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"varnet/core/address"
	"varnet/core/say"
	"varnet/internal/account"
	"varnet/internal/client"
	"varnet/internal/move"
	"varnet/internal/store"
)

func exportWorkspace(c *cli) action {
	return saves(c, nil, func(ctx context.Context, api *client.Client, w io.Writer) error { return api.ExportWorkspace(ctx, w) })
}

func keepWorkspace(c *cli) action {
	return do(c, func(ctx context.Context, api *client.Client) error { return api.KeepWorkspace(ctx) })
}

func importWorkspace(c *cli) action {
	owner := c.flags.String("owner", "", "the address of the person who becomes its owner, and has an account here")
	return c.onInstallation(func(ctx context.Context, a *account.Accounts) error {
		at, err := address.Parse(*owner)
		if err != nil {
			return c.wrongUse("name with -owner the address of the person who becomes its owner")
		}
		person, err := a.Store.PersonAt(ctx, at.Canonical())
		if errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("nobody here has the address %s; have them sign up first, or make an account: varnet person new", *owner)
		}
		if err != nil {
			return err
		}
		head, workspace, err := readWorkspace(ctx, a, c.args[0], person.ID)
		if err != nil {
			return fmt.Errorf("nothing was imported: %w", err)
		}
		return c.sentence(fmt.Sprintf("“%s” is workspace %d now, as it was at %s: %s and %s. Runs that were at work are paused and routines, too; enter the credentials of connections again.",
			printable(head.Name), workspace, head.At.Format("2006-01-02 15:04:05 UTC"), say.Plural(head.Lists, "list", "lists"), say.Plural(head.Records["run"], "run", "runs")))
	})
}

func readWorkspace(ctx context.Context, a *account.Accounts, name string, owner int64) (move.Head, int64, error) {
	f, err := os.Open(name)
	if err != nil {
		return move.Head{}, 0, fmt.Errorf("the file %s cannot be read: %w", name, say.WithoutPath(err))
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return move.Head{}, 0, err
	}
	z, err := zip.NewReader(f, info.Size())
	if err != nil {
		return move.Head{}, 0, move.ErrNone
	}
	return (&move.Reader{Store: a.Store, Secrets: a.Secrets}).Read(ctx, z, owner)
}

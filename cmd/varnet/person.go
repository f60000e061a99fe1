package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"varnet/core/say"
	"varnet/internal/account"
	"varnet/internal/store"
)

func keyCommand() command {
	return command{"key", "", "makes keys on the installation itself, where there is none yet", "varnet key new", nil, []command{
		{"new", "", "makes a key and prints it, this once", "varnet key new -name \"office laptop\"", newKey, nil},
	}}
}

// workspaceScopes are those of a workspace.
func workspaceScopes() []string {
	var out []string
	for _, s := range account.Scopes() {
		if s != account.Installation {
			out = append(out, string(s))
		}
	}
	return out
}

func newKey(c *cli) action {
	dsn := c.databaseItself()
	name := c.flags.String("name", "a key", "what the key is for")
	workspace := c.flags.String("workspace", account.FirstWorkspace, "the workspace it opens; made if need be")
	scopes := c.flags.String("scopes", "", "what it may do, with commas between; all of the workspace unless given, and the installation's too in the workspace “"+account.FirstWorkspace+"”")
	return withDatabase(dsn, func(ctx context.Context, db *store.Store) error {
		names := fields(*scopes)
		if len(names) == 0 {
			if names = workspaceScopes(); *workspace == account.FirstWorkspace {
				names = append(names, string(account.Installation))
			}
		}
		granted, err := account.ReadScopes(names)
		if err != nil {
			return c.wrongUse("-scopes: " + err.Error())
		}
		w, err := db.WorkspaceNamed(ctx, *workspace)
		if err != nil {
			return err
		}
		k := account.NewKey()
		if _, err := db.NewKey(ctx, w.ID, k, store.KeyTerms{Name: *name, Scopes: account.Names(granted)}); err != nil {
			return err
		}
		return c.sentence(k)
	})
}

func personCommand() command {
	return command{"person", "", "manages people on the installation itself", "varnet person link", nil, []command{
		{"new", "ADDRESS", "makes a person, whose password is read from standard input", "varnet person new ada.moss@fernhollow.example -name \"Ada Moss\"", newPerson, nil},
		{"owner", "ADDRESS", "makes somebody an owner of the installation", "varnet person owner ada.moss@fernhollow.example", makeOwner, nil},
		{"link", "", "prints a one-time link by which an owner of the installation signs up", "varnet person link -base-url https://varnet.fernhollow.example", ownerLink, nil},
	}}
}

// onInstallation makes the action of a command on accounts, with the installation's secret.
func (c *cli) onInstallation(use func(context.Context, *account.Accounts) error) action {
	dsn := c.databaseItself()
	s := settings{secretFile: c.secretSetting()}
	return withDatabase(dsn, func(ctx context.Context, db *store.Store) error {
		box, err := s.secrets(c)
		if err != nil {
			return err
		}
		return use(ctx, accounts(db, box))
	})
}

// longestPassword bounds what is read of standard input, in bytes.
const longestPassword = 1000

func newPerson(c *cli) action {
	name := c.flags.String("name", "", "their name")
	workspace := c.flags.String("workspace", account.FirstWorkspace, "the workspace they are in; made if need be")
	role := c.flags.String("role", string(account.Owner), "what they are in it: "+say.Or(account.Names(account.Roles())...))
	owner := c.flags.Bool("installation", false, "whether they own the installation, too")
	return c.onInstallation(func(ctx context.Context, a *account.Accounts) error {
		if !account.IsRole(*role) {
			return c.wrongUse(fmt.Sprintf("-role is %s, not %q", say.Or(account.Names(account.Roles())...), *role))
		}
		password, err := readPassword(c.in)
		if err != nil {
			return err
		}
		p, err := a.Make(ctx, account.Newcomer{Name: *name, Address: c.args[0], Password: password}, *workspace, account.Role(*role), *owner)
		if err != nil {
			return err
		}
		return c.sentence(fmt.Sprintf("%s (%s) is in “%s”, as %s.", p.Name, p.Address, *workspace, *role))
	})
}

// readPassword reads the first line.
func readPassword(in io.Reader) (string, error) {
	if f, ok := in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(os.Stderr, "Password: ")
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(os.Stderr)
		return string(text), err
	}
	line, err := bufio.NewReader(io.LimitReader(in, longestPassword)).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	return strings.TrimRight(line, "\r\n"), nil
}

func makeOwner(c *cli) action {
	return c.onInstallation(func(ctx context.Context, a *account.Accounts) error {
		p, err := a.Store.PersonAt(ctx, strings.ToLower(c.args[0]))
		if errors.Is(err, store.ErrNotFound) {
			return fmt.Errorf("nobody has the address %s here", c.args[0])
		}
		if err == nil {
			err = a.Store.MakeOwner(ctx, p.ID)
		}
		if err != nil {
			return err
		}
		return c.sentence(fmt.Sprintf("%s (%s) is an owner of the installation.", p.Name, p.Address))
	})
}

func ownerLink(c *cli) action {
	base := c.flags.String("base-url", "http://127.0.0.1:8025", "where people reach the console")
	return c.onInstallation(func(ctx context.Context, a *account.Accounts) error {
		secret, err := a.OwnerLink(ctx)
		if err != nil {
			return err
		}
		return c.sentence(strings.TrimRight(*base, "/") + "/begin#" + secret)
	})
}

package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"

	"varnet/internal/account"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func keysCommand() command {
	return command{"keys", "", "shows the keys of the workspace, and makes, replaces and deletes them", "varnet keys", showKeys, []command{
		{"make", "NAME", "makes a key and prints it, this once", "varnet keys make \"sign-up form\" -scopes form -origins https://www.fernhollow.example", makeKey, nil},
		{"rotate", "KEY", "replaces a key by a new one with the same terms, and prints that", "varnet keys rotate 3 -overlap 48", rotateKey, nil},
		{"delete", "KEY", "revokes a key, and ends the console sessions that it opened", "varnet keys delete 3", deleteKey, nil},
	}}
}

func showKeys(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.KnownKey], error) {
		return whole(api.Keys(ctx))
	}, table[contract.KnownKey]{"There are no keys.", "key\tname\tscopes\tends\tfrom\tlast used", func(w io.Writer, k contract.KnownKey) {
		last := minute(k.LastUsedAt, "never")
		if k.LastUsedFrom != "" {
			last += " from " + k.LastUsedFrom
		}
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\n", k.ID, printable(k.Name), strings.Join(k.Scopes, ","), minute(k.ExpiresAt, "never"),
			cmp.Or(strings.Join(k.Networks, ","), "anywhere"), last)
	}}.of(c))
}

// tellKey prints a key that was just made, alone, so that a script can take it.
func (c *cli) tellKey(k contract.KnownKey) error { return c.sentence(k.Key) }

func makeKey(c *cli) action {
	scopes := c.flags.String("scopes", string(account.Read), "what it may do, with commas between: "+strings.Join(account.Names(account.Scopes()), ", "))
	days := c.flags.Int("days", 0, "after how many days it ends; 0: it does not")
	networks := c.flags.String("networks", "", "the networks from which it may be used, with commas between; anywhere unless given")
	origins := c.flags.String("origins", "", "for the scope form, which stands alone: the origins of the pages with the form, with commas between")
	visits := c.flags.Int("visits", 0, "how often one visitor of the form may ask a day; 50 unless given")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.KnownKey, error) {
		return api.MakeKey(ctx, contract.NewKey{Name: c.args[0], Scopes: fields(*scopes), ExpiresDays: *days, Networks: fields(*networks), Origins: fields(*origins), VisitorDay: *visits})
	}, c.tellKey)
}

func rotateKey(c *cli) action {
	overlap := c.flags.Int("overlap", 24, "for how many hours the old key goes on, 0 to 720")
	return ask(c, of(c, "key", func(api *client.Client, ctx context.Context, id int64) (contract.KnownKey, error) {
		return api.RotateKey(ctx, id, contract.KeyRotation{OverlapHours: overlap})
	}), c.tellKey)
}

func deleteKey(c *cli) action { return doOf(c, "key", (*client.Client).DeleteKey) }

package main

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"varnet/core/catalogue"
	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func catalogueCommand() command {
	return command{"catalogue", "", "shows and changes your own catalogue entries", "varnet catalogue", showCatalogue, []command{
		{"shipped", "KIND", "shows the entries of a shipped catalogue", "varnet catalogue shipped role -search info", showShipped, nil},
		{"add", "KIND [NAME…]", "adds names of your own; " + kinds(), "varnet catalogue add disposable tenminutes.example", changeCatalogue(false), nil},
		{"except", "KIND [NAME…]", "makes exceptions: shipped names of a kind that do not count", "varnet catalogue except role info", changeCatalogue(true), nil},
		{"remove", "KIND NAME…", "removes entries of your own", "varnet catalogue remove disposable tenminutes.example", removeFromCatalogue, nil},
		{"followed", "", "shows the catalogues that are followed, and what changed in them", "varnet catalogue followed", showFollowed, nil},
		{"follow", "KIND URL", "follows a list at an https:// or file:// URL: it is read every day", "varnet catalogue follow disposable https://lists.seedlibrary.example/disposable.txt", followCatalogue, nil},
		{"read", "ID", "reads a followed catalogue now", "varnet catalogue read 3", readFollowed, nil},
		{"unfollow", "ID", "follows a catalogue no longer", "varnet catalogue unfollow 3", unfollow, nil},
	}}
}

// kinds names the kinds of catalogues.
func kinds() string {
	var out []string
	for _, k := range catalogue.Kinds() {
		out = append(out, string(k))
	}
	return "KIND is " + strings.Join(out[:len(out)-1], ", ") + " or " + out[len(out)-1]
}

var entryTable = table[contract.CatalogueEntry]{
	"There are no entries of your own; the shipped catalogues count. Add one: varnet catalogue add disposable DOMAIN", "catalogue\tname\t",
	func(w io.Writer, e contract.CatalogueEntry) {
		fmt.Fprintln(w, strings.Join([]string{e.Kind, printable(e.Name), counts(!e.Except)}, "\t"))
	}}

func showCatalogue(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.CatalogueEntry], error) {
		return whole(api.Catalogue(ctx))
	}, entryTable.of(c))
}

func showShipped(c *cli) action {
	page, q := c.paged(), contract.ShippedQuery{}
	c.flags.StringVar(&q.Search, "search", "", "only entries with this text in their name")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.ShippedEntry], error) {
		q.PageQuery, q.Kind = page(), c.args[0]
		return api.ShippedCatalogue(ctx, q)
	}, table[contract.ShippedEntry]{"The catalogue has no such entry.", "name\t", func(w io.Writer, e contract.ShippedEntry) {
		fmt.Fprintln(w, e.Name+"\t"+counts(e.Counts))
	}}.of(c))
}

// counts says whether an entry counts.
func counts(does bool) string {
	if does {
		return "counts"
	}
	return "does not count"
}

func changeCatalogue(except bool) func(c *cli) action {
	return func(c *cli) action {
		file := c.flags.String("file", "", "a file with one name a line, in place of names; # begins a comment; - is standard input")
		return ask(c, func(ctx context.Context, api *client.Client) (page contract.Page[contract.CatalogueEntry], err error) {
			names, kind := c.args[1:], c.args[0]
			switch {
			case (len(names) == 0) == (*file == ""):
				return page, c.wrongUse("name what to add, or give -file FILE")
			case *file != "":
				if names, err = c.namesIn(*file, catalogue.Kind(kind)); err != nil {
					return page, err
				}
			}
			entries := make([]contract.CatalogueEntry, len(names))
			for i, name := range names {
				entries[i] = contract.CatalogueEntry{Kind: kind, Name: name, Except: except}
			}
			return whole(api.AddToCatalogue(ctx, entries))
		}, func(page contract.Page[contract.CatalogueEntry]) error {
			if *file != "" {
				return c.sentence(say.Plural(int64(len(page.Items)), "entry", "entries") + " added.")
			}
			return entryTable.of(c)(page)
		})
	}
}

// mostNames bounds the names of a file: the service takes no larger body.
const mostNames = 1_000_000

// namesIn reads the names of a file, one a line.
func (c *cli) namesIn(file string, kind catalogue.Kind) (names []string, err error) {
	in, err := c.open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	names, err = catalogue.ReadNames(in, kind, mostNames)
	switch {
	case err != nil:
		err = fmt.Errorf("%s, %w", file, err)
	case len(names) == 0:
		err = fmt.Errorf("%s holds no names; write one per line", file)
	}
	return names, err
}

func removeFromCatalogue(c *cli) action {
	return do(c, func(ctx context.Context, api *client.Client) error {
		for _, name := range c.args[1:] {
			if err := api.DeleteFromCatalogue(ctx, c.args[0], name); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
		return nil
	})
}

var followedTable = table[contract.CatalogueSource]{
	"No catalogue is followed. Follow one: varnet catalogue follow disposable https://HOST/LIST", "number\tcatalogue\tlast read\taddress\tentries\t",
	func(w io.Writer, s contract.CatalogueSource) {
		fmt.Fprintln(w, strings.Join([]string{strconv.FormatInt(s.ID, 10), s.Kind, minute(s.ReadAt, "not yet"), printable(s.URL), printable(s.Sentence)}, "\t"))
	}}

func showFollowed(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.CatalogueSource], error) {
		return whole(api.CatalogueSources(ctx))
	}, followedTable.of(c))
}

func followCatalogue(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.CatalogueSource, error) {
		return api.FollowCatalogue(ctx, contract.NewCatalogueSource{Kind: c.args[0], URL: c.args[1]})
	}, followedTable.one(c))
}

func readFollowed(c *cli) action {
	return ask(c, of(c, "followed catalogue", (*client.Client).ReadCatalogueSource), followedTable.one(c))
}

func unfollow(c *cli) action {
	return doOf(c, "followed catalogue", (*client.Client).UnfollowCatalogue)
}

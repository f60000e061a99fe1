package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"varnet/core/catalogue"
	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

const catalogueForms = `  varnet catalogue                          your own entries
  varnet catalogue add KIND NAME…           add some; with -file FILE, one per line (- is standard input)
  varnet catalogue except KIND NAME…        take some of the shipped ones out
  varnet catalogue remove KIND NAME…        take entries of your own back
  varnet catalogue follow KIND URL          follow a list at an https:// or file:// address: it is read every day
  varnet catalogue followed                 what is followed, and what changed
  varnet catalogue read ID                  read one that is followed now
  varnet catalogue unfollow ID              follow it no longer
  KIND is role, no-reply, disposable, free-mail, trap-name, trap-domain or trap-typo-domain`

// catalogueCall is a call of the command.
type catalogueCall struct {
	*cli
	api  *client.Client
	json bool
	file string
}

func catalogueCommand(ctx context.Context, c *cli, args []string) error {
	connect := c.connect()
	asJSON := c.flags.Bool("json", false, "a JSON object a line")
	file := c.flags.String("file", "", "with add or except: a file with one name a line; # begins a comment")
	rest, err := c.parse(args)
	if err != nil {
		return err
	}
	call := catalogueCall{c, connect(), *asJSON, *file}
	if len(rest) == 0 {
		return call.show(ctx)
	}
	switch what, rest := rest[0], rest[1:]; what {
	case "add", "except", "remove":
		return call.change(ctx, what, rest)
	case "follow", "followed", "read", "unfollow":
		return call.follow(ctx, what, rest)
	}
	return c.wrongUse("say: add, except or remove, then a kind, then names; or follow, followed, read or unfollow")
}

func (c catalogueCall) change(ctx context.Context, what string, args []string) error {
	if len(args) < 1 || !slices.Contains(catalogue.Kinds(), catalogue.Kind(args[0])) || (len(args) < 2) == (c.file == "") || what == "remove" && c.file != "" {
		return c.wrongUse("say: add, except or remove, then a kind, then names or, to add, -file FILE")
	}
	kind, names := args[0], args[1:]
	if what == "remove" {
		for _, name := range names {
			if err := c.api.DeleteFromCatalogue(ctx, kind, name); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
		}
		return c.show(ctx)
	}
	if c.file != "" {
		var err error
		if names, err = namesIn(c.file, catalogue.Kind(kind)); err != nil {
			return err
		}
	}
	entries := make([]contract.CatalogueEntry, len(names))
	for i, name := range names {
		entries[i] = contract.CatalogueEntry{Kind: kind, Name: name, Except: what == "except"}
	}
	found, err := c.api.AddToCatalogue(ctx, entries)
	if err != nil || c.file == "" {
		return c.shown(found, err)
	}
	fmt.Fprintf(c.out, "%s added.\n", say.Plural(int64(len(found)), "entry", "entries"))
	return nil
}

// mostNames bounds the names of a file: the service takes no larger body.
const mostNames = 1_000_000

// namesIn reads the names of a file, one a line.
func namesIn(file string, kind catalogue.Kind) (names []string, err error) {
	in := os.Stdin
	if file != "-" {
		if in, err = os.Open(file); err != nil {
			return nil, err
		}
		defer in.Close()
	}
	names, err = catalogue.ReadNames(in, kind, mostNames)
	switch {
	case err != nil:
		err = fmt.Errorf("%s, %w", file, err)
	case len(names) == 0:
		err = fmt.Errorf("%s holds no names; write one per line", file)
	}
	return names, err
}

func (c catalogueCall) show(ctx context.Context) error { return c.shown(c.api.Catalogue(ctx)) }

func (c catalogueCall) shown(found []contract.CatalogueEntry, err error) error {
	if err != nil {
		return err
	}
	const none = "There are no entries of your own; the shipped catalogues count. Add one: varnet catalogue add disposable DOMAIN"
	return listing[contract.CatalogueEntry]{c.json, none, "catalogue\tname\t", func(w io.Writer, e contract.CatalogueEntry) {
		counts := "counts"
		if e.Except {
			counts = "does not count"
		}
		fmt.Fprintln(w, strings.Join([]string{e.Kind, printable(e.Name), counts}, "\t"))
	}}.show(c.out, found)
}

// follow follows catalogues that are kept elsewhere.
func (c catalogueCall) follow(ctx context.Context, what string, args []string) error {
	id := int64(0)
	if what == "read" || what == "unfollow" {
		if len(args) == 1 {
			id, _ = strconv.ParseInt(args[0], 10, 64)
		}
		if id < 1 {
			return c.wrongUse(what + " wants the number of one that is followed; varnet catalogue followed lists them")
		}
	}
	switch what {
	case "follow":
		if len(args) != 2 || !slices.Contains(catalogue.Kinds(), catalogue.Kind(args[0])) {
			return c.wrongUse("say: follow, then a kind, then an address")
		}
		return c.source(c.api.FollowCatalogue(ctx, contract.NewCatalogueSource{Kind: args[0], URL: args[1]}))
	case "read":
		return c.source(c.api.ReadCatalogueSource(ctx, id))
	case "unfollow":
		return c.api.UnfollowCatalogue(ctx, id)
	}
	sources, err := c.api.CatalogueSources(ctx)
	if err != nil {
		return err
	}
	return c.sources(sources)
}

func (c catalogueCall) source(s contract.CatalogueSource, err error) error {
	if err != nil {
		return err
	}
	return c.sources([]contract.CatalogueSource{s})
}

func (c catalogueCall) sources(sources []contract.CatalogueSource) error {
	const none = "No catalogue is followed. Follow one: varnet catalogue follow disposable https://HOST/LIST"
	return listing[contract.CatalogueSource]{c.json, none, "number\tcatalogue\tlast read\taddress\tentries\t", func(w io.Writer, s contract.CatalogueSource) {
		read := "not yet"
		if s.ReadAt != nil {
			read = s.ReadAt.Local().Format("2006-01-02 15:04")
		}
		fmt.Fprintln(w, strings.Join([]string{strconv.FormatInt(s.ID, 10), s.Kind, read, printable(s.URL), printable(s.Sentence)}, "\t"))
	}}.show(c.out, sources)
}

package main

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"varnet/core/catalogue"
	"varnet/internal/contract"
)

const catalogueForms = `  varnet catalogue                          your own entries
  varnet catalogue add KIND NAME…           add some
  varnet catalogue except KIND NAME…        take some of the shipped ones out
  varnet catalogue remove KIND NAME…        take entries of your own back
  KIND is role, no-reply, disposable, free-mail, trap-name, trap-domain or trap-typo-domain`

func catalogueCommand(ctx context.Context, c *cli, args []string) error {
	connect := c.connect()
	asJSON := c.flags.Bool("json", false, "a JSON object a line")
	rest, err := c.parse(args)
	if err != nil {
		return err
	}
	api := connect()
	if len(rest) > 0 {
		if len(rest) < 3 || !slices.Contains([]string{"add", "except", "remove"}, rest[0]) || !slices.Contains(catalogue.Kinds(), catalogue.Kind(rest[1])) {
			return c.wrongUse("say: add, except or remove, then a kind, then names")
		}
		if rest[0] == "remove" {
			for _, name := range rest[2:] {
				if err := api.DeleteFromCatalogue(ctx, rest[1], name); err != nil {
					return fmt.Errorf("%s: %w", name, err)
				}
			}
		} else {
			var entries []contract.CatalogueEntry
			for _, name := range rest[2:] {
				entries = append(entries, contract.CatalogueEntry{Kind: rest[1], Name: name, Except: rest[0] == "except"})
			}
			if _, err := api.AddToCatalogue(ctx, entries); err != nil {
				return err
			}
		}
	}
	found, err := api.Catalogue(ctx)
	if err != nil {
		return err
	}
	const none = "There are no entries of your own; the shipped catalogues count. Add one: varnet catalogue add disposable DOMAIN"
	return listing[contract.CatalogueEntry]{*asJSON, none, "catalogue\tname\t", func(w io.Writer, e contract.CatalogueEntry) {
		counts := "counts"
		if e.Except {
			counts = "does not count"
		}
		fmt.Fprintln(w, strings.Join([]string{e.Kind, printable(e.Name), counts}, "\t"))
	}}.show(c.out, found)
}

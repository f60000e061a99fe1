package main

import (
	"context"
	"fmt"
	"io"

	"varnet/internal/client"
	"varnet/internal/contract"
)

func linksCommand() command {
	return command{"links", "RUN", "shows the links from which tools fetch files of a run, and makes and deletes them", "varnet links 12", showLinks, []command{
		{"make", "RUN", "makes a link; it is shown this once, and whoever has it needs no key", "varnet links make 12 -days 7", makeLink, nil},
		{"delete", "LINK", "deletes a link; it opens nothing from then on", "varnet links delete 3", deleteLink, nil},
	}}
}

var linkTable = table[contract.Link]{"This run has no valid links.", "link\trows\tform\texpires\tfetched\tby", func(w io.Writer, l contract.Link) {
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%d\t%s\n", l.ID, l.Decision, l.Form, minute(&l.ExpiresAt, ""), l.Fetched, printable(l.By))
}}

func showLinks(c *cli) action {
	return ask(c, of(c, "run", (*client.Client).Links), linkTable.of(c))
}

func makeLink(c *cli) action {
	n := contract.NewLink{}
	c.flags.StringVar(&n.Decision, "decision", "keep", "which rows: keep, hold, drop or all")
	c.flags.StringVar(&n.Form, "form", "rows", "rows, results, addresses or suppression")
	c.flags.StringVar(&n.Format, "format", "original", "original, spreadsheet, xlsx, ods, jsonl or txt")
	c.flags.IntVar(&n.Days, "days", 7, "for how many days it works, 1 to 90")
	var at func(string) string
	return ask(c, of(c, "run", func(api *client.Client, ctx context.Context, run int64) (contract.Link, error) {
		at = api.At
		return api.MakeLink(ctx, run, n)
	}), func(l contract.Link) error { return c.sentence(at(l.Path)) })
}

func deleteLink(c *cli) action {
	return ask(c, of(c, "link", func(api *client.Client, ctx context.Context, id int64) (struct{}, error) {
		return struct{}{}, api.DeleteLink(ctx, id)
	}), func(struct{}) error { return c.sentence("The link is deleted.") })
}

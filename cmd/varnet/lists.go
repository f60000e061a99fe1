package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"text/tabwriter"

	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

// printEach writes one JSON object a line.
func printEach[T any](w io.Writer, list []T) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	for _, v := range list {
		if err := e.Encode(v); err != nil {
			return err
		}
	}
	return nil
}

// listing is how a command shows a list of things.
type listing[T any] struct {
	json   bool
	none   string // what is said when there are none
	header string
	line   func(w io.Writer, v T)
}

// show writes the list as JSON, or as lines of cells under the header.
func (l listing[T]) show(w io.Writer, found []T) error {
	switch {
	case l.json:
		return printEach(w, found)
	case len(found) == 0:
		_, err := fmt.Fprintln(w, l.none)
		return err
	}
	t := tabwriter.NewWriter(w, 0, 8, 2, ' ', 0)
	fmt.Fprintln(t, l.header)
	for _, v := range found {
		l.line(t, v)
	}
	return t.Flush()
}

func lists(ctx context.Context, c *cli, args []string) error {
	connect, limit := c.connect(), c.flags.Int("limit", 50, "how many at the most")
	asJSON := c.flags.Bool("json", false, "a JSON object a line")
	rest, err := c.parse(args)
	if err != nil {
		return err
	}
	if len(rest) > 0 {
		return c.actOnList(ctx, connect(), rest)
	}
	found, err := connect().Lists(ctx, *limit)
	if err != nil {
		return err
	}
	const none = "There is no list yet. Import one: varnet clean FILE -out FILE"
	return listing[contract.List]{*asJSON, none, "list\tname\trows\taddresses\tlast run", func(w io.Writer, l contract.List) {
		last := "not run yet"
		if l.LastRun != nil {
			last = fmt.Sprintf("run %d %s: %s of %s kept", l.LastRun.ID, l.LastRun.State, say.Number(l.LastRun.Kept), say.Rows(l.Rows))
		}
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\n", l.ID, printable(l.Name), say.Number(l.Rows), say.Number(l.Addresses), last)
	}}.show(c.out, found)
}

const listsForms = `  varnet lists                  the lists, newest first
  varnet lists estimate LIST    tell from a sample what it will come to, in half a minute at most
  varnet lists common LIST LIST how many addresses of the first stand in the second, too
  varnet lists keep LIST DAYS   keep it so long after it was imported or last run; 0: until it is deleted
  varnet lists decide LIST keep|hold|drop|policy ADDRESS…
                                override the policy for some addresses; policy: as it says again
  varnet lists archive LIST     archive it, so that it is not shown among the others
  varnet lists unarchive LIST   show it among the others again
  varnet lists delete LIST      delete it with its runs, results and evidence`

// actOnList does what is said with a list.
func (c *cli) actOnList(ctx context.Context, api *client.Client, words []string) error {
	if len(words) > 3 && words[0] == "decide" {
		return c.override(ctx, api, words[1], words[2], words[3:])
	}
	if len(words) < 2 || len(words) > 3 || len(words) == 3 != (words[0] == "keep" || words[0] == "common") {
		return c.wrongUse("say what to do and the number of a list; the forms are below")
	}
	id, err := c.listNumber(words[1])
	if err != nil {
		return err
	}
	switch words[0] {
	case "estimate":
		e, err := api.Estimate(ctx, id)
		if err == nil {
			fmt.Fprintln(c.out, e.Sentence)
		}
		return err
	case "common":
		other, err := c.listNumber(words[2])
		if err != nil {
			return err
		}
		k, err := api.Common(ctx, id, other)
		if err == nil {
			fmt.Fprintln(c.out, printable(k.Sentence))
		}
		return err
	case "keep":
		days, err := strconv.Atoi(words[2])
		if err != nil {
			return c.wrongUse(fmt.Sprintf("%q is no number of days", words[2]))
		}
		_, err = api.ChangeList(ctx, id, contract.ListChange{KeepDays: &days})
		return err
	case "archive", "unarchive":
		archived := words[0] == "archive"
		_, err := api.ChangeList(ctx, id, contract.ListChange{Archived: &archived})
		return err
	case "delete":
		return api.DeleteList(ctx, id)
	}
	return c.wrongUse(fmt.Sprintf("%q cannot be done with a list; the forms are below", words[0]))
}

// override decides about addresses of a list.
func (c *cli) override(ctx context.Context, api *client.Client, list, decision string, addresses []string) error {
	id, err := c.listNumber(list)
	if err != nil {
		return err
	}
	done, err := api.Override(ctx, id, contract.Override{Mailboxes: addresses, Decision: policy.Decision(decision)})
	if err == nil {
		fmt.Fprintf(c.out, "It was decided about %d of %s.\n", done.Addresses, say.Addresses(int64(len(addresses))))
	}
	return err
}

// listNumber reads the number of a list.
func (c *cli) listNumber(word string) (int64, error) {
	id, err := strconv.ParseInt(word, 10, 64)
	if err != nil {
		return 0, c.wrongUse(fmt.Sprintf("%q is not the number of a list; \"varnet lists\" shows them", word))
	}
	return id, nil
}

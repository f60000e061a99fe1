package main

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"varnet/core/policy"
	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func listsCommand() command {
	return command{"lists", "", "shows the lists, newest first, and changes them", "varnet lists -search members", showLists, []command{
		{"show", "LIST", "shows one list", "varnet lists show 12", showList, nil},
		{"import", "FILE", "imports a file as a list, or a newer file for one; - is standard input", "varnet lists import members.csv -name Members", importList, nil},
		{"estimate", "LIST", "estimates from a sample what a run of a list will find, in half a minute at most", "varnet lists estimate 12", estimateList, nil},
		{"common", "LIST LIST", "says how many addresses of the first list are also in the second", "varnet lists common 12 7", commonLists, nil},
		{"columns", "LIST", "shows what the columns of a list hold: names, days of activity, what another check found; or says so", "varnet lists columns 12 -holds Vorname=first-name -holds Nachname=last-name", listColumns, nil},
		{"rename", "LIST NAME", "gives a list another name", "varnet lists rename 12 \"Members, spring\"", renameList, nil},
		{"retain", "LIST DAYS", "sets how many days a list is kept after it was imported or last run; 0: until it is deleted", "varnet lists retain 12 365", retainList, nil},
		{"override", "LIST DECISION ADDRESS…", "overrides the policy for some addresses: keep, hold or drop; policy takes that back. - reads addresses from standard input",
			"varnet lists override 12 drop ada@upperloam.example", overrideList, nil},
		{"archive", "LIST", "archives a list, so that it is not shown among the others", "varnet lists archive 12", archiveList(true), nil},
		{"unarchive", "LIST", "shows an archived list among the others again", "varnet lists unarchive 12", archiveList(false), nil},
		{"delete", "LIST", "deletes a list with its runs, results and evidence", "varnet lists delete 12", deleteList, nil},
	}}
}

var listTable = table[contract.List]{"There is no list here. Import one: varnet clean FILE -out FILE", "list\tname\trows\taddresses\tlast run", func(w io.Writer, l contract.List) {
	last := "not run yet"
	if l.LastRun != nil {
		last = fmt.Sprintf("run %d %s: %s of %s kept", l.LastRun.ID, l.LastRun.State, say.Number(l.LastRun.Kept), say.Rows(l.Rows))
	}
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\n", l.ID, printable(l.Name), say.Number(l.Rows), say.Number(l.Addresses), last)
}}

func showLists(c *cli) action {
	page := c.paged()
	q := contract.ListQuery{}
	c.flags.StringVar(&q.Search, "search", "", "only lists with this text in the name")
	c.flags.StringVar(&q.Order, "order", "newest", "newest, name or largest")
	c.flags.BoolVar(&q.Archived, "archived", false, "the archived lists instead")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.List], error) {
		q.PageQuery = page()
		return api.Lists(ctx, q)
	}, listTable.of(c))
}

func showList(c *cli) action {
	return ask(c, of(c, "list", (*client.Client).List), listTable.one(c))
}

func importList(c *cli) action {
	file := c.importing()
	return ask(c, func(ctx context.Context, api *client.Client) (contract.List, error) {
		return file(ctx, api, c.args[0])
	}, func(l contract.List) error { return c.sentence(fmt.Sprintf("List %d. %s", l.ID, l.Sentence)) })
}

func estimateList(c *cli) action {
	return ask(c, of(c, "list", (*client.Client).Estimate), func(e contract.Estimate) error { return c.sentence(e.Sentence) })
}

func commonLists(c *cli) action {
	return ask(c, of(c, "list", func(api *client.Client, ctx context.Context, id int64) (k contract.Common, err error) {
		other, err := c.number(1, "list")
		if err != nil {
			return k, err
		}
		return api.Common(ctx, id, other)
	}), func(k contract.Common) error { return c.sentence(k.Sentence) })
}

// changeList makes a command that changes something of a list.
func changeList(c *cli, change func() (contract.ListChange, error)) action {
	return ask(c, of(c, "list", func(api *client.Client, ctx context.Context, id int64) (l contract.List, err error) {
		what, err := change()
		if err != nil {
			return l, err
		}
		return api.ChangeList(ctx, id, what)
	}), listTable.one(c))
}

func renameList(c *cli) action {
	return changeList(c, func() (contract.ListChange, error) { return contract.ListChange{Name: &c.args[1]}, nil })
}

func retainList(c *cli) action {
	return changeList(c, func() (contract.ListChange, error) {
		days, err := strconv.Atoi(c.args[1])
		if err != nil {
			return contract.ListChange{}, c.wrongUse(fmt.Sprintf("%q is not a number of days", c.args[1]))
		}
		return contract.ListChange{KeepDays: &days}, nil
	})
}

func archiveList(archived bool) func(c *cli) action {
	return func(c *cli) action {
		return changeList(c, func() (contract.ListChange, error) { return contract.ListChange{Archived: &archived}, nil })
	}
}

func deleteList(c *cli) action { return doOf(c, "list", (*client.Client).DeleteList) }

func overrideList(c *cli) action {
	asked := 0
	return ask(c, of(c, "list", func(api *client.Client, ctx context.Context, id int64) (done contract.Overridden, err error) {
		addresses, err := c.lines(2)
		if err != nil {
			return done, err
		}
		asked = len(addresses)
		return api.Override(ctx, id, contract.Override{Mailboxes: addresses, Decision: policy.Decision(strings.ToLower(c.args[1]))})
	}), func(done contract.Overridden) error {
		return c.sentence(fmt.Sprintf("It was decided about %d of %s.", done.Addresses, say.Addresses(int64(asked))))
	})
}

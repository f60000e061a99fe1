package main

import (
	"context"
	"fmt"
	"path/filepath"
	"text/tabwriter"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func activityCommand() command {
	return command{"activity", "LIST", "shows when something was seen of the addresses of a list last", "varnet activity 12", showActivity, []command{
		{"import", "FILE", "imports a file of events: what was seen of addresses, and when; - is standard input", "varnet activity import orders.csv -kind ordered", importActivity, nil},
	}}
}

func showActivity(c *cli) action {
	return ask(c, of(c, "list", (*client.Client).ListActivity), func(a contract.ListActivity) error {
		t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
		fmt.Fprintln(t, a.Says+"\n\nlast active\taddresses")
		for _, s := range a.Steps {
			fmt.Fprintf(t, "%s\t%s\n", s.Says, say.Number(s.Addresses))
		}
		if len(a.Kinds) > 0 {
			fmt.Fprintln(t, "\nby what was seen\taddresses")
		}
		for _, k := range a.Kinds {
			fmt.Fprintf(t, "%s\t%s\n", printable(k.Kind), say.Number(k.Addresses))
		}
		return t.Flush()
	})
}

func importActivity(c *cli) action {
	f := client.ActivityFile{}
	c.flags.IntVar(&f.Address, "address", 0, "the column with the addresses, from 1; detected unless given")
	c.flags.IntVar(&f.At, "at", 0, "the column with the days or times, from 1; detected unless given")
	c.flags.IntVar(&f.What, "what", 0, "the column that says what was seen, from 1; found by its name unless given")
	c.flags.StringVar(&f.Kind, "kind", "", "what was seen where no column says so, such as opened, clicked, signed-in or ordered")
	return ask(c, func(ctx context.Context, api *client.Client) (t contract.ImportedActivity, err error) {
		file, err := c.open(c.args[0])
		if err != nil {
			return t, err
		}
		defer file.Close()
		if c.args[0] != "-" {
			f.Name = filepath.Base(c.args[0])
		}
		return api.ImportActivity(ctx, f, file)
	}, func(t contract.ImportedActivity) error { return c.sentence(t.Says) })
}

package main

import (
	"context"
	"fmt"
	"text/tabwriter"

	"varnet/core/sheet"
	"varnet/internal/client"
	"varnet/internal/contract"
)

// holds adds the flag that says what columns hold.
func (c *cli) holds() *[]string {
	var all []string
	c.flags.Func("holds", "what a column holds, as `COLUMN=WHAT`: first-name, last-name, name, activity:SEEN (such as activity:ordered) or opinion:WHOSE; give it once for each column. Their names tell it unless given", func(text string) error {
		all = append(all, text)
		return nil
	})
	return &all
}

// listColumns shows what the columns of a list hold, or says so.
func listColumns(c *cli) action {
	holds := c.holds()
	return ask(c, of(c, "list", func(api *client.Client, ctx context.Context, id int64) (contract.ColumnMeanings, error) {
		if len(*holds) == 0 {
			return api.ColumnMeanings(ctx, id)
		}
		var all []contract.ColumnMeaning
		for _, text := range *holds {
			m, err := sheet.ReadMeaning(text)
			if err != nil {
				return contract.ColumnMeanings{}, c.wrongUse(err.Error())
			}
			all = append(all, contract.ColumnMeaning{Column: m.Column, Holds: string(m.Holds), Of: m.Of})
		}
		return api.SetColumnMeanings(ctx, id, all)
	}), func(m contract.ColumnMeanings) error {
		if len(m.Meanings) == 0 {
			return c.sentence("No column is known to hold names, days of activity or what another check found.")
		}
		t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
		fmt.Fprintln(t, "column\tholds\tof")
		for _, one := range m.Meanings {
			fmt.Fprintf(t, "%s\t%s\t%s\n", printable(one.Column), one.Holds, printable(one.Of))
		}
		return t.Flush()
	})
}

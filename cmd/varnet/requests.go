package main

import (
	"context"
	"fmt"
	"io"
	"time"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func requestsCommand() command {
	return command{"requests", "", "shows what persons asked for about their addresses", "varnet requests", showRequests, []command{
		{"look", "ADDRESS", "shows all that the workspace holds about an address", "varnet requests look maya.okafor@willowpost.example", lookAtAddress, nil},
		{"file", "ADDRESS", "writes the same as a file for its person", "varnet requests file maya.okafor@willowpost.example -format text -out answer.txt", writeRightsFile, nil},
		{"erase", "ADDRESS", "erases an address: its rows become blank, and it is neither kept nor asked about again", "varnet requests erase maya.okafor@willowpost.example -yes", eraseAddress, nil},
		{"allow", "ADDRESS", "allows an address again that was erased", "varnet requests allow maya.okafor@willowpost.example", allowAddress, nil},
	}}
}

func showRequests(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.RightsRequest], error) {
		return api.Requests(ctx)
	}, table[contract.RightsRequest]{"Nobody has made a request yet. Look an address up: varnet requests look ADDRESS", "request\twhen\twhat\taddress\tby\tdone", func(w io.Writer, r contract.RightsRequest) {
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\n", r.ID, minute(&r.BegunAt, ""), r.Kind, r.Mark, printable(r.ByWhom), printable(r.Says))
	}}.of(c))
}

func lookAtAddress(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Held, error) {
		return api.LookAtAddress(ctx, c.args[0])
	}, c.printHeld)
}

func (c *cli) printHeld(h contract.Held) error {
	if err := c.sentence(h.Says); err != nil {
		return err
	}
	for _, l := range h.Lists {
		fmt.Fprintf(c.out, "\nList %d, “%s”\n", l.ID, printable(l.Name))
		for _, r := range l.Rows {
			whose := ""
			if !r.Own {
				whose = ", the row of somebody else"
			}
			fmt.Fprintf(c.out, "  line %d%s\n", r.Line, whose)
			for _, cell := range r.Cells {
				if cell.Text != "" {
					fmt.Fprintf(c.out, "    %s: %s\n", printable(cell.Column), printable(cell.Text))
				}
			}
		}
		for _, r := range l.Results {
			fmt.Fprintf(c.out, "  run %d, %s: %s, %s\n", r.RunID, r.At.Local().Format("2006-01-02"), r.Finding, r.Title)
			for _, q := range r.Said {
				fmt.Fprintf(c.out, "    %s\n", printable(q.Reply))
			}
		}
	}
	for _, m := range h.Letters {
		fmt.Fprintf(c.out, "\nMailing “%s”, sent %s: %s %s\n", printable(m.Mailing), m.SentAt.Local().Format("2006-01-02"), m.Outcome, printable(m.Words))
	}
	for _, e := range h.Elsewhere {
		fmt.Fprintf(c.out, "Named in %s: %s\n", e.Place, say.Number(e.Records))
	}
	return nil
}

func writeRightsFile(c *cli) action {
	format := c.flags.String("format", "json", "json, or text that anybody can read")
	return saves(c, nil, func(ctx context.Context, api *client.Client, w io.Writer) error {
		return api.RightsFile(ctx, c.args[0], *format, w)
	})
}

// requestLooks is how often an erasure is looked at that takes longer.
const requestLooks = time.Second

func eraseAddress(c *cli) action {
	yes := c.flags.Bool("yes", false, "erase it; otherwise it is only told what would be")
	return ask(c, func(ctx context.Context, api *client.Client) (r contract.RightsRequest, err error) {
		if !*yes {
			h, err := api.LookAtAddress(ctx, c.args[0])
			if err != nil {
				return r, err
			}
			return r, fmt.Errorf("nothing was erased. %s To erase it, which cannot be undone, add -yes", h.Says)
		}
		r, err = api.MakeRequest(ctx, contract.RightsOrder{Address: c.args[0], Kind: "erase"})
		told := ""
		for err == nil && r.EndedAt == nil {
			if r.Says != told {
				told = r.Says
				fmt.Fprintln(c.err, told)
			}
			select {
			case <-time.After(requestLooks):
				r, err = api.Request(ctx, r.ID)
			case <-ctx.Done():
				return r, ctx.Err()
			}
		}
		return r, err
	}, func(r contract.RightsRequest) error { return c.sentence(r.Says) })
}

func allowAddress(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.RightsRequest, error) {
		return api.MakeRequest(ctx, contract.RightsOrder{Address: c.args[0], Kind: "allow"})
	}, func(r contract.RightsRequest) error { return c.sentence(r.Says) })
}

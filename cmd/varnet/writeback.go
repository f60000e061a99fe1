package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
)

func writeBackCommand() command {
	return command{"write-back", "RUN", "writes decisions of a run back to where its contacts came from, and waits for the end", "varnet write-back 12 -act field -name \"mail state\" -of finding -dry-run", writeBack, []command{
		{"list", "", "shows the newest write-backs", "varnet write-back list -run 12", showWriteBacks, nil},
		{"journal", "WRITE-BACK", "shows what each contact got and had", "varnet write-back journal 3 -state failed,skipped", showJournal, nil},
		{"undo", "WRITE-BACK", "restores what the contacts had before", "varnet write-back undo 3", undoWriteBack, nil},
	}}
}

// steps adds the flags that say what is written back, and returns it.
func (c *cli) steps() func() ([]contract.WriteBackStep, error) {
	s := contract.WriteBackStep{Values: map[string]string{}}
	var decisions, findings string
	file := c.flags.String("steps", "", "a file with the steps, as JSON, in the place of the flags for one step")
	c.flags.StringVar(&s.Act, "act", "", "collection, field, tag, suppress, disable, remove or file")
	c.flags.StringVar(&s.Name, "name", "", "the name of the collection, field, tag or file")
	c.flags.StringVar(&s.Of, "of", "", "what a field is set to: finding, cause or decision")
	c.flags.BoolVar(&s.Refresh, "refresh", false, "bring a collection of that name up to date")
	c.flags.StringVar(&decisions, "decision", "", "only contacts with these decisions, with commas between")
	c.flags.StringVar(&findings, "finding", "", "only contacts with these findings, with commas between")
	c.flags.Var(pairs(s.Values), "value", "what is written in the place of a finding, cause or decision, as `FINDING=TEXT`; give it once for each")
	return func() ([]contract.WriteBackStep, error) {
		if *file == "" {
			s.Decisions, s.Findings = listed(decisions), listed(findings)
			return []contract.WriteBackStep{s}, nil
		}
		body, err := c.open(*file)
		if err != nil {
			return nil, err
		}
		defer body.Close()
		var all []contract.WriteBackStep
		d := json.NewDecoder(body)
		d.DisallowUnknownFields()
		if err := d.Decode(&all); err != nil {
			return nil, fmt.Errorf("the file %s holds no steps: %w", *file, err)
		}
		return all, nil
	}
}

func listed(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(text, ",")
}

func writeBack(c *cli) action {
	steps := c.steps()
	dry := c.flags.Bool("dry-run", false, "describe what would be written, and write nothing")
	connection := c.flags.Int64("connection", 0, "where a file goes to: the number of a connection for files")
	connect, asJSON := c.connect(), c.asJSON()
	return func(ctx context.Context) error {
		run, err := c.number(0, "run")
		if err != nil {
			return err
		}
		n := contract.NewWriteBack{ConnectionID: *connection}
		if n.Steps, err = steps(); err != nil {
			return err
		}
		api := connect()
		d, err := api.DraftWriteBack(ctx, run, n)
		if err != nil {
			return err
		}
		if *dry {
			return c.showDraft(d, *asJSON)
		}
		n.Tag = d.Tag
		b, err := api.BeginWriteBack(ctx, run, n)
		if err != nil {
			return err
		}
		return c.followWriteBack(ctx, api, b, *asJSON)
	}
}

var itemTable = table[contract.WriteBackItem]{"", "step\trow\tkey\taddress\tgets\thad\tstate\twhy", func(w io.Writer, i contract.WriteBackItem) {
	had, address := "?", ""
	if i.Had != nil {
		had = *i.Had
	}
	if len(i.Addresses) > 0 {
		address = i.Addresses[0]
	}
	fmt.Fprintf(w, "%d\t%d\t%s\t%s\t%s\t%s\t%s\t%s\n", i.Step+1, i.Number, printable(i.Key), printable(address), printable(i.Value), printable(had), i.State, printable(i.Why))
}}

// showDraft says what each step would do, with its first contacts.
func (c *cli) showDraft(d contract.WriteBackDraft, asJSON bool) error {
	if asJSON {
		return c.printJSON(d)
	}
	for i, s := range d.Says {
		if err := c.sentence(s); err != nil {
			return err
		}
		for _, it := range d.Steps[i].First {
			value := ""
			if it.Value != "yes" {
				value = ": " + it.Value
			}
			fmt.Fprintf(c.out, "  %s%s\n", printable(strings.Join(it.Addresses, ", ")), printable(value))
		}
	}
	return c.sentence("Nothing was written.")
}

// followWriteBack waits for the end of a write-back.
func (c *cli) followWriteBack(ctx context.Context, api *client.Client, b contract.WriteBack, asJSON bool) (err error) {
	said := ""
	for b.EndedAt == nil {
		if b.Says != said {
			said = b.Says
			fmt.Fprintln(c.err, printable(said))
		}
		select {
		case <-time.After(lookEvery):
			if b, err = api.WriteBack(ctx, b.ID); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	switch {
	case b.State == "failed":
		return fmt.Errorf("write-back %d failed: %s", b.ID, b.Says)
	case asJSON:
		return c.printJSON(b)
	}
	return c.sentence(fmt.Sprintf("Write-back %d is %s. %s", b.ID, b.State, b.Says))
}

var writeBackTable = table[contract.WriteBack]{"Nothing was written back yet.", "write-back\trun\tconnection\tbegun\tstate\tby\twhat", func(w io.Writer, b contract.WriteBack) {
	fmt.Fprintf(w, "%d\t%d\t%d\t%s\t%s\t%s\t%s\n", b.ID, b.RunID, b.ConnectionID, minute(&b.BegunAt, ""), b.State, printable(b.By), printable(b.Says))
}}

func showWriteBacks(c *cli) action {
	run := c.flags.Int64("run", 0, "only those of a run")
	connection := c.flags.Int64("connection", 0, "only those of a connection")
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.WriteBack], error) {
		return api.WriteBacks(ctx, *run, *connection)
	}, writeBackTable.of(c))
}

func showJournal(c *cli) action {
	state := c.flags.String("state", "", "only contacts in these states, with commas between: open, begun, done, skipped, failed, undone, left")
	return ask(c, of(c, "write-back", func(api *client.Client, ctx context.Context, id int64) (all contract.Page[contract.WriteBackItem], err error) {
		for cursor := ""; ; {
			page, err := api.WriteBackItems(ctx, id, listed(*state), cursor)
			all.Items = append(all.Items, page.Items...)
			if cursor = page.Next; err != nil || cursor == "" {
				return all, err
			}
		}
	}), itemTable.of(c))
}

func undoWriteBack(c *cli) action {
	connect, asJSON := c.connect(), c.asJSON()
	return func(ctx context.Context) error {
		id, err := c.number(0, "write-back")
		if err != nil {
			return err
		}
		api := connect()
		b, err := api.UndoWriteBack(ctx, id)
		if err != nil {
			return err
		}
		return c.followWriteBack(ctx, api, b, *asJSON)
	}
}

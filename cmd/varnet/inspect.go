package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"text/tabwriter"
	"time"

	"varnet/core/say"
	"varnet/internal/store"
)

// inspectCommand looks into the database, for operators: across workspaces, as it is kept. The
// views address_now, result_now and parcel_now are for queries of one's own.
func inspectCommand() command {
	return command{"inspect", "", "shows what the database holds, for operators", "varnet inspect run 12", nil, []command{
		{"list", "LIST", "shows a list's rows, addresses and runs, and what they take on disk", "varnet inspect list 12", inspect("list", inspectList), nil},
		{"run", "RUN", "shows how far a run's planning is, its results, its parcels by state and round, what it waits for", "varnet inspect run 12", inspect("run", inspectRun), nil},
		{"parcel", "PARCEL", "shows a parcel's addresses and what they answered before; once recorded, the sessions", "varnet inspect parcel 345", inspect("parcel", inspectParcel), nil},
	}}
}

// inspect makes a command that shows a thing of the database.
func inspect(what string, look func(context.Context, *store.Store, int64, io.Writer) error) func(c *cli) action {
	return func(c *cli) action {
		return withDatabase(c.databaseItself(), func(ctx context.Context, db *store.Store) error {
			id, err := c.number(0, what)
			if err != nil {
				return err
			}
			t := tabwriter.NewWriter(c.out, 0, 8, 2, ' ', 0)
			if err := look(ctx, db, id, t); err != nil {
				if errors.Is(err, store.ErrNotFound) {
					return fmt.Errorf("there is no %s %d", what, id)
				}
				return err
			}
			return t.Flush()
		})
	}
}

func inspectList(ctx context.Context, db *store.Store, id int64, w io.Writer) error {
	l, err := db.InspectList(ctx, id)
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "list\t%d, %s, of the workspace %s\n", l.ID, printable(l.Name), printable(l.Workspace))
	fmt.Fprintf(w, "file\t%s (%s), imported %s\n", printable(cmp.Or(l.FileName, "none")), l.Format, moment(l.CreatedAt))
	if l.ArchivedAt != nil {
		fmt.Fprintf(w, "archived\t%s\n", moment(*l.ArchivedAt))
	}
	fmt.Fprintf(w, "rows\t%s in %s, %s\n", say.Number(l.Rows), say.Plural(l.Blocks, "block", "blocks"), bytesOf(l.BlockBytes))
	fmt.Fprintf(w, "addresses\t%s at %s in %s, %s\n", say.Number(l.Addresses), say.Plural(l.Domains, "domain", "domains"), say.Plural(l.Parts, "part", "parts"), bytesOf(l.PartBytes))
	for _, r := range l.Runs {
		ended := "not ended"
		if r.FinishedAt != nil {
			ended = "ended " + moment(*r.FinishedAt)
		}
		fmt.Fprintf(w, "run\t%d, %s, depth %s, made %s, %s\n", r.ID, r.State, r.Depth, moment(r.CreatedAt), ended)
	}
	return nil
}

func inspectRun(ctx context.Context, db *store.Store, id int64, w io.Writer) error {
	r, err := db.InspectRun(ctx, id)
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "run\t%d of list %d, of the workspace %s\n", r.ID, r.ListID, printable(r.Workspace))
	fmt.Fprintf(w, "state\t%s, depth %s, policy %s, made %s\n", r.State, r.Depth, r.Policy.Name, moment(r.CreatedAt))
	fmt.Fprintf(w, "planning\t%s\n", planned(r.Plan))
	fmt.Fprintf(w, "results\t%s, %s\n", say.Plural(r.Batches, "batch", "batches"), bytesOf(r.BatchBytes))
	for _, v := range r.Results {
		fmt.Fprintf(w, "\t%s\t%s\t%s\n", say.Number(v.Addresses), v.Finding, v.Cause)
	}
	all := int64(0)
	for _, p := range r.Parcels {
		all += p.Parcels
	}
	fmt.Fprintf(w, "parcels\t%s\n", say.Number(all))
	for _, p := range r.Parcels {
		fmt.Fprintf(w, "\t%s\t%s, round %d\t%s\n", say.Number(p.Parcels), p.State, p.Round, say.Addresses(p.Addresses))
	}
	for _, l := range r.Lanes {
		fmt.Fprintf(w, "waits\t%s\t%s in %s\t%s, from %s\n", printable(l.LaneKey), say.Addresses(l.Addresses), say.Plural(l.Parcels, "parcel", "parcels"), l.Waits, moment(l.NotBefore))
	}
	return nil
}

// planned says how far the planning of a run is.
func planned(p store.Plan) string {
	switch {
	case p.Done:
		return fmt.Sprintf("done, in %s of domains; %s reused", say.Plural(int64(p.Batch), "batch", "batches"), say.Plural(p.Reused, "result", "results"))
	case p.Domain != "":
		return fmt.Sprintf("%s of domains; the last is %s with %s", say.Plural(int64(p.Batch), "batch", "batches"), printable(p.Domain), say.Addresses(int64(p.Addresses)))
	case p.SyntaxDone:
		return "the malformed are concluded, no domain is planned yet"
	}
	return "not begun"
}

func inspectParcel(ctx context.Context, db *store.Store, id int64, w io.Writer) error {
	p, err := db.InspectParcel(ctx, id)
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "parcel\t%d of run %d, %s at %s\n", p.ID, p.RunID, say.Addresses(int64(p.Addresses)), printable(p.LaneKey))
	fmt.Fprintf(w, "state\t%s, turn %d, round %d, not before %s\n", p.State, p.Turn, p.Round, moment(p.NotBefore))
	if p.Lane != nil && p.State == "claimed" {
		fmt.Fprintf(w, "lane\t%d\n", *p.Lane)
	}
	if p.DoneAt != nil {
		fmt.Fprintf(w, "recorded\t%s; results are in result_now of the run\n", moment(*p.DoneAt))
	}
	for _, q := range p.Questions {
		fmt.Fprintf(w, "address\t%d\t%s\t%s\n", q.Ordinal, printable(q.Mailbox), say.Plural(int64(q.Rounds), "round", "rounds"))
		for _, a := range q.Asked {
			fmt.Fprintf(w, "\t\t%s\t%s\n", moment(a.At), printable(a.Reply))
		}
	}
	if p.Record == nil {
		return nil
	}
	for _, s := range p.Record.Conversations {
		fmt.Fprintf(w, "session\t%s\t%s (%s)\t%s\n", moment(s.At), printable(s.Exchanger), s.Addr, printable(s.Ended))
		for _, l := range s.Lines {
			who := "we"
			if l.Host {
				who = "host"
			}
			fmt.Fprintf(w, "\t%.1f ms\t%s\t%s\n", l.AtMS, who, printable(l.Text))
		}
	}
	for _, a := range p.Record.Acceptances {
		fmt.Fprintf(w, "acceptance\t%s\t%s at %s\t%d made-up refused in a row, of the listed %d accepted and %d refused\n", a.Accepts, printable(a.Domain), printable(a.Exchanger),
			a.Refused, a.ListedTaken, a.ListedRefused)
	}
	return nil
}

// moment is a time as operators compare it with logs.
func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05Z") }

// bytesOf says how many bytes something takes.
func bytesOf(n int64) string {
	const k = 1024
	switch {
	case n >= 10*k*k:
		return say.Number(n/k/k) + " MB"
	case n >= 10*k:
		return say.Number(n/k) + " kB"
	}
	return say.Number(n) + " bytes"
}

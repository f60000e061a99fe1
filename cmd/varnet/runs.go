package main

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"time"

	"varnet/core/finding"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func runs(ctx context.Context, c *cli, args []string) error {
	connect, limit := c.connect(), c.flags.Int("limit", 50, "how many at the most")
	asJSON := c.flags.Bool("json", false, "a JSON object a line")
	causes := c.flags.String("cause", "", "with again: only addresses with one of these causes, with commas between; otherwise all that asking may help")
	findings := c.flags.String("finding", "", "with again: only addresses with one of these findings, with commas between")
	asked := c.newRun()
	rest, err := c.parse(args)
	if err != nil {
		return err
	}
	if len(rest) > 0 && (rest[0] == "start" || rest[0] == "draft") {
		return c.startRun(ctx, connect(), rest, asked)
	}
	if len(rest) > 0 {
		return c.actOnRun(ctx, connect(), rest, contract.AskAgain{Causes: split[finding.Cause](*causes), Findings: split[finding.Finding](*findings)})
	}
	found, err := connect().Runs(ctx, *limit)
	if err != nil {
		return err
	}
	const none = "There is no run yet. Start one: varnet clean FILE -out FILE"
	return listing[contract.Run]{*asJSON, none, "run\tlist\tstate\tbegun\tstands", func(w io.Writer, r contract.Run) {
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\n", r.ID, printable(r.ListName), r.State, r.CreatedAt.Local().Format("2006-01-02 15:04"), r.Sentence)
	}}.show(c.out, found)
}

// newRun adds the flags of a run to be started.
func (c *cli) newRun() func() (contract.NewRun, error) {
	var n contract.NewRun
	c.flags.StringVar(&n.Depth, "depth", "mailbox", "with start or draft: how far it goes: syntax, domain or mailbox")
	c.flags.StringVar(&n.Policy, "policy", "careful", "with start or draft: the policy that decides")
	c.flags.IntVar(&n.ReuseDays, "reuse-days", 0, "with start or draft: take over results of earlier runs that are younger; 0 asks about all")
	c.flags.StringVar(&n.Hours, "hours", "", "with start: the hours of the day within which it works, such as 22:00-06:00")
	c.flags.StringVar(&n.Zone, "zone", "", "with start: the time zone of -hours and -begin, such as Europe/Berlin; UTC unless given")
	c.flags.IntVar(&n.LimitMinutes, "stop-after", 0, "with start: minutes after its beginning when it is stopped; 0: never")
	begin := c.flags.String("begin", "", "with start: not before this time, such as 2026-11-24T06:00")
	return func() (contract.NewRun, error) {
		if *begin == "" {
			return n, nil
		}
		zone, err := time.LoadLocation(n.Zone)
		if err != nil {
			return n, c.wrongUse(fmt.Sprintf("the zone %q is not known; name one such as Europe/Berlin", n.Zone))
		}
		at, err := time.ParseInLocation("2006-01-02T15:04", *begin, zone)
		if err != nil {
			return n, c.wrongUse(fmt.Sprintf("%q is not of the form 2026-11-24T06:00", *begin))
		}
		n.BeginAt = &at
		return n, nil
	}
}

// startRun starts a run of a list, or tells what it would take.
func (c *cli) startRun(ctx context.Context, api *client.Client, words []string, asked func() (contract.NewRun, error)) error {
	if len(words) != 2 {
		return c.wrongUse("name the number of a list; the forms are below")
	}
	list, err := c.listNumber(words[1])
	if err != nil {
		return err
	}
	n, err := asked()
	if err != nil {
		return err
	}
	if words[0] == "draft" {
		d, err := api.DraftRun(ctx, list, n)
		if err == nil {
			fmt.Fprintln(c.out, printable(d.Sentence))
		}
		return err
	}
	r, err := api.StartRun(ctx, list, n)
	if err == nil {
		fmt.Fprintf(c.out, "Run %d. %s\n", r.ID, printable(r.Sentence))
	}
	return err
}

const runsForms = `  varnet runs                the runs, newest first
  varnet runs draft LIST     tell what a run of a list would take; nothing is started
  varnet runs start LIST     start a run of a list, or leave it drafted until -begin or its hours
  varnet runs begin RUN      let a drafted run begin now
  varnet runs watch RUN      follow one until it ends
  varnet runs pause RUN      let it wait; what is in flight comes to its end
  varnet runs resume RUN     let it go on
  varnet runs stop RUN       end it; what is known stays
  varnet runs again RUN      ask again about addresses that asking may help, or -cause or -finding`

// actOnRun does what is said with a run.
func (c *cli) actOnRun(ctx context.Context, api *client.Client, words []string, which contract.AskAgain) error {
	if len(words) != 2 {
		return c.wrongUse("say what to do and the number of a run; the forms are below")
	}
	id, err := c.runNumber(words[1])
	if err != nil {
		return err
	}
	var r contract.Run
	switch words[0] {
	case "watch":
		return c.follow(ctx, api, id)
	case "again":
		if _, err = api.AskAgain(ctx, id, which); err != nil {
			return err
		}
		return c.follow(ctx, api, id)
	case "pause":
		r, err = api.PauseRun(ctx, id)
	case "begin":
		r, err = api.BeginRun(ctx, id)
	case "resume":
		r, err = api.ResumeRun(ctx, id)
	case "stop":
		r, err = api.StopRun(ctx, id)
	default:
		return c.wrongUse(fmt.Sprintf("%q cannot be done with a run; the forms are below", words[0]))
	}
	if err == nil {
		fmt.Fprintln(c.out, printable(r.Sentence))
	}
	return err
}

// runNumber reads the number of a run.
func (c *cli) runNumber(word string) (int64, error) {
	id, err := strconv.ParseInt(word, 10, 64)
	if err != nil {
		return 0, c.wrongUse(fmt.Sprintf("%q is not the number of a run; \"varnet runs\" shows them", word))
	}
	return id, nil
}

// follow shows a run until it ends and says where it stands then.
func (c *cli) follow(ctx context.Context, api *client.Client, id int64) error {
	p := progress{to: c.err, terminal: onTerminal(c.err), waits: 8}
	r, err := api.Wait(ctx, id, p.show)
	p.end()
	if err == nil {
		fmt.Fprintln(c.out, r.Sentence)
		fmt.Fprintln(c.out, printable(r.ExportSentence))
	}
	return err
}

// split reads codes with commas between.
func split[T ~string](list string) (out []T) {
	for _, w := range fields(list) {
		out = append(out, T(w))
	}
	return out
}

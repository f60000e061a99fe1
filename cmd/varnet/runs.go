package main

import (
	"context"
	"fmt"
	"io"
	"time"

	"varnet/core/finding"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func runsCommand() command {
	return command{"runs", "", "shows the runs, newest first, and starts and steers them", "varnet runs -limit 10", showRuns, []command{
		{"show", "RUN", "shows one run", "varnet runs show 12", showRun, nil},
		{"draft", "LIST", "says what a run of a list would take; nothing is started", "varnet runs draft 12 -depth domain", draftRun, nil},
		{"start", "LIST", "starts a run of a list, or leaves it drafted until -begin or its hours", "varnet runs start 12 -hours 22:00-06:00 -zone Europe/Berlin", startRun, nil},
		{"begin", "RUN", "lets a drafted run begin now", "varnet runs begin 12", steerRun((*client.Client).BeginRun), nil},
		{"watch", "RUN", "follows a run until it ends", "varnet runs watch 12", watchRun, nil},
		{"pause", "RUN", "lets a run wait; what is in flight comes to its end", "varnet runs pause 12", steerRun((*client.Client).PauseRun), nil},
		{"resume", "RUN", "lets a paused run go on", "varnet runs resume 12", steerRun((*client.Client).ResumeRun), nil},
		{"stop", "RUN", "ends a run; what is known stays", "varnet runs stop 12", steerRun((*client.Client).StopRun), nil},
		{"again", "RUN", "asks again about the addresses of a finished run that asking may help", "varnet runs again 12 -cause exchanger.postponed,exchanger.silent", askAgain, nil},
	}}
}

var runTable = table[contract.Run]{"There is no run here. Start one: varnet clean FILE -out FILE", "run\tlist\tstate\tbegun\tsummary", func(w io.Writer, r contract.Run) {
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\n", r.ID, printable(r.ListName), r.State, minute(&r.CreatedAt, ""), printable(r.Sentence))
}}

func showRuns(c *cli) action {
	page := c.paged()
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Run], error) {
		return api.Runs(ctx, page())
	}, runTable.of(c))
}

func showRun(c *cli) action {
	return ask(c, of(c, "run", (*client.Client).Run), runTable.one(c))
}

// steerRun makes a command that changes the state of a run.
func steerRun(call func(*client.Client, context.Context, int64) (contract.Run, error)) func(c *cli) action {
	return func(c *cli) action {
		return ask(c, of(c, "run", call), func(r contract.Run) error { return c.sentence(r.Sentence) })
	}
}

// chosenRun adds the flags of a run that say what it asks and what decides.
func (c *cli) chosenRun() *contract.NewRun {
	n := &contract.NewRun{}
	c.flags.StringVar(&n.Depth, "depth", "mailbox", "how far it goes: syntax, domain or mailbox")
	c.flags.StringVar(&n.Policy, "policy", "careful", "the policy that decides")
	c.flags.IntVar(&n.ReuseDays, "reuse-days", 0, "reuse results of earlier runs that are younger; 0 asks about all")
	c.flags.BoolVar(&n.Urgent, "urgent", false, "have it go before others, at the higher cost that the plan says")
	return n
}

func draftRun(c *cli) action {
	n := c.chosenRun()
	return ask(c, of(c, "list", func(api *client.Client, ctx context.Context, list int64) (contract.Draft, error) {
		return api.DraftRun(ctx, list, *n)
	}), func(d contract.Draft) error {
		text := d.Sentence
		if d.Allowance != nil {
			text += " " + d.Allowance.Says
		}
		return c.sentence(text)
	})
}

func startRun(c *cli) action {
	n := c.chosenRun()
	c.flags.StringVar(&n.Hours, "hours", "", "the hours of the day within which it works, such as 22:00-06:00")
	c.flags.StringVar(&n.Zone, "zone", "", "the time zone of -hours and -begin, such as Europe/Berlin; UTC unless given")
	c.flags.IntVar(&n.LimitMinutes, "stop-after", 0, "minutes after its beginning when it is stopped; 0: never")
	begin := c.flags.String("begin", "", "not before this time, such as 2026-11-24T06:00")
	return ask(c, of(c, "list", func(api *client.Client, ctx context.Context, list int64) (r contract.Run, err error) {
		if n.BeginAt, err = c.beginning(*begin, n.Zone); err != nil {
			return r, err
		}
		return api.StartRun(ctx, list, *n)
	}), func(r contract.Run) error { return c.sentence(fmt.Sprintf("Run %d. %s", r.ID, r.Sentence)) })
}

// beginning reads when a run begins; without a time it is at once.
func (c *cli) beginning(text, zoneName string) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	zone, err := time.LoadLocation(zoneName)
	if err != nil {
		return nil, c.wrongUse(fmt.Sprintf("the zone %q is not known; name one such as Europe/Berlin", zoneName))
	}
	at, err := time.ParseInLocation("2006-01-02T15:04", text, zone)
	if err != nil {
		return nil, c.wrongUse(fmt.Sprintf("%q is not of the form 2026-11-24T06:00", text))
	}
	return &at, nil
}

// waitsShown is how many operators are named that a run waits for.
const waitsShown = 8

func watchRun(c *cli) action {
	return ask(c, of(c, "run", func(api *client.Client, ctx context.Context, id int64) (contract.Run, error) {
		return c.follow(ctx, api, id, waitsShown)
	}), c.tellEnd)
}

func askAgain(c *cli) action {
	causes := c.flags.String("cause", "", "only addresses with one of these causes, with commas between")
	findings := c.flags.String("finding", "", "only addresses with one of these findings, with commas between")
	return ask(c, of(c, "run", func(api *client.Client, ctx context.Context, id int64) (contract.Run, error) {
		which := contract.AskAgain{Causes: split[finding.Cause](*causes), Findings: split[finding.Finding](*findings)}
		if r, err := api.AskAgain(ctx, id, which); err != nil {
			return r, err
		}
		return c.follow(ctx, api, id, waitsShown)
	}), c.tellEnd)
}

// follow shows a run on standard error until it ends, with so many waits named; with none
// only a terminal shows it.
func (c *cli) follow(ctx context.Context, api *client.Client, id int64, waits int) (contract.Run, error) {
	p := progress{to: c.err, terminal: onTerminal(c.err), waits: waits}
	r, err := api.Wait(ctx, id, p.show)
	p.end()
	if err != nil && r.ID != 0 {
		err = fmt.Errorf("run %d goes on in the service, but following it failed: %w", r.ID, err)
	}
	return r, err
}

// tellEnd says what became of a run.
func (c *cli) tellEnd(r contract.Run) error {
	if err := c.sentence(r.Sentence); err != nil {
		return err
	}
	return c.sentence(r.ExportSentence)
}

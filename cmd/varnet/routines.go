package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"

	"varnet/internal/client"
	"varnet/internal/contract"
)

func routinesCommand() command {
	return command{"routines", "", "shows the routines of the workspace, and manages them", "varnet routines", showRoutines, []command{
		{"show", "ROUTINE", "shows a routine as the JSON that make and change read", "varnet routines show 3 > nightly.json", showRoutine, nil},
		{"draft", "-file FILE", "says what a routine would do, and when; nothing is made", "varnet routines draft -file nightly.json", draftRoutine, nil},
		{"make", "-file FILE", "makes a routine", "varnet routines make -file nightly.json", makeRoutine, nil},
		{"change", "ROUTINE -file FILE", "changes what a routine does", "varnet routines change 3 -file nightly.json", changeRoutine, nil},
		{"run", "ROUTINE", "runs a routine now", "varnet routines run 3 -dry", runRoutine, nil},
		{"times", "ROUTINE", "shows the times at which it was due, the newest first", "varnet routines times 3", showTimes, nil},
		{"go-on", "ROUTINE TIME", "lets a held time go on", "varnet routines go-on 3 12", decideTime(true), nil},
		{"leave", "ROUTINE TIME", "ends a held time without a result", "varnet routines leave 3 12", decideTime(false), nil},
		{"pause", "ROUTINE", "pauses a routine", "varnet routines pause 3", pauseRoutine(true), nil},
		{"resume", "ROUTINE", "resumes a paused routine", "varnet routines resume 3", pauseRoutine(false), nil},
		{"delete", "ROUTINE", "deletes a routine; its lists stay", "varnet routines delete 3", deleteRoutine, nil},
	}}
}

var routineTable = table[contract.Routine]{"There are no routines.", "routine\tname\tdue\tnext\tlast", func(w io.Writer, r contract.Routine) {
	last, next := "not run yet", minute(r.NextAt, "-")
	if r.Last != nil {
		last = fmt.Sprintf("time %d %s", r.Last.Number, r.Last.State)
	}
	if r.Paused {
		next = "paused"
	}
	fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\n", r.ID, printable(r.Name), printable(r.Due), next, last)
}}

func showRoutines(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Routine], error) {
		return api.Routines(ctx)
	}, routineTable.of(c))
}

func showRoutine(c *cli) action {
	return ask(c, of(c, "routine", (*client.Client).Routine), func(r contract.Routine) error {
		return c.printJSON(contract.NewRoutine{Name: r.Name, RoutineSpec: r.Spec})
	})
}

// routineFile adds the flag that names a file with a routine, and returns what reads it.
func (c *cli) routineFile() func() (contract.NewRoutine, error) {
	file := c.flags.String("file", "", "the file with the routine, as JSON; - is standard input")
	return func() (n contract.NewRoutine, err error) {
		body, err := c.open(*file)
		if err != nil {
			return n, err
		}
		defer body.Close()
		d := json.NewDecoder(body)
		d.DisallowUnknownFields()
		if err := d.Decode(&n); err != nil {
			return n, fmt.Errorf("the file %s is not a routine: %w", *file, err)
		}
		return n, nil
	}
}

func draftRoutine(c *cli) action {
	file := c.routineFile()
	return ask(c, func(ctx context.Context, api *client.Client) (d contract.RoutineDraft, err error) {
		n, err := file()
		if err != nil {
			return d, err
		}
		return api.DraftRoutine(ctx, n.RoutineSpec)
	}, func(d contract.RoutineDraft) error {
		for _, at := range d.Next {
			d.Says = append(d.Says, "Due "+minute(&at, "")+".")
		}
		for _, s := range d.Says {
			if err := c.sentence(s); err != nil {
				return err
			}
		}
		return nil
	})
}

func makeRoutine(c *cli) action {
	file := c.routineFile()
	return ask(c, func(ctx context.Context, api *client.Client) (r contract.Routine, err error) {
		n, err := file()
		if err != nil {
			return r, err
		}
		return api.MakeRoutine(ctx, n)
	}, routineTable.one(c))
}

func changeRoutine(c *cli) action {
	file := c.routineFile()
	return ask(c, of(c, "routine", func(api *client.Client, ctx context.Context, id int64) (r contract.Routine, err error) {
		n, err := file()
		if err != nil {
			return r, err
		}
		change := contract.RoutineChange{Spec: &n.RoutineSpec}
		if n.Name != "" {
			change.Name = &n.Name
		}
		return api.ChangeRoutine(ctx, id, change)
	}), routineTable.one(c))
}

func runRoutine(c *cli) action {
	dry := c.flags.Bool("dry", false, "describe what it would do; nobody is asked, and nothing written")
	return ask(c, of(c, "routine", func(api *client.Client, ctx context.Context, id int64) (contract.RoutineTime, error) {
		return api.RunRoutine(ctx, id, *dry)
	}), func(t contract.RoutineTime) error {
		return c.sentence(fmt.Sprintf("Time %d has begun; varnet routines times %s shows what it comes to.", t.Number, c.args[0]))
	})
}

var timeTable = table[contract.RoutineTime]{"It was not due yet.", "time\tdue\tstate\tcame\tnew\tgone\tasked\tkept\twhat", func(w io.Writer, t contract.RoutineTime) {
	fmt.Fprintf(w, "%d\t%s\t%s\t%d\t%d\t%d\t%d\t%d\t%s\n", t.Number, minute(&t.DueAt, ""), t.State, t.Record.Rows, t.Record.Added, t.Record.Gone, t.Record.Asked, t.Record.Kept, printable(t.Says))
}}

func showTimes(c *cli) action {
	page := c.paged()
	return ask(c, of(c, "routine", func(api *client.Client, ctx context.Context, id int64) (contract.Page[contract.RoutineTime], error) {
		return api.RoutineTimes(ctx, id, page())
	}), timeTable.of(c))
}

// decideTime has a time that is held go on, or end.
func decideTime(goOn bool) func(c *cli) action {
	return func(c *cli) action {
		return ask(c, of(c, "routine", func(api *client.Client, ctx context.Context, id int64) (t contract.RoutineTime, err error) {
			number, err := c.number(1, "time")
			if err != nil {
				return t, err
			}
			return api.DecideRoutine(ctx, id, int(number), goOn)
		}), timeTable.one(c))
	}
}

// pauseRoutine has a routine rest, or go on.
func pauseRoutine(paused bool) func(c *cli) action {
	return func(c *cli) action {
		return ask(c, of(c, "routine", func(api *client.Client, ctx context.Context, id int64) (contract.Routine, error) {
			return api.ChangeRoutine(ctx, id, contract.RoutineChange{Paused: &paused})
		}), routineTable.one(c))
	}
}

func deleteRoutine(c *cli) action { return doOf(c, "routine", (*client.Client).DeleteRoutine) }

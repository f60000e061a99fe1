package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

const (
	firstPort   = 2708
	firstBusy   = 1_000_000 // rows of the list that keeps the service busy
	busyRuns    = 2         // of that list, at the same time
	firstStarts = 40
	firstRows   = 50 // rows of each list that is started meanwhile
)

// first starts small lists while large ones run, and measures how long it takes
// until the event stream tells the first result, and the end.
func first() error {
	w, err := plainWorld()
	if err != nil {
		return err
	}
	in, err := install(w, firstPort, "VARNET_ROUNDS=1s")
	if err != nil {
		return err
	}
	defer in.stop()
	small, err := smallLists(in, w)
	if err != nil {
		return err
	}
	idle, _, err := firstResults(in, small[:firstStarts/4])
	if err != nil {
		return err
	}
	rest, err := keepBusy(in, w)
	if err != nil {
		return err
	}
	seen, ends, err := firstResults(in, small)
	if err := errors.Join(err, rest()); err != nil {
		return err
	}
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "%d starts of a list of %d rows\tp50\tp95\tmost\t\n", len(small), firstRows)
	for _, l := range []struct {
		what  string
		times []time.Duration
	}{{"first result in the event stream, service idle", idle}, {"first result, while 2 runs of 1,000,000 rows go on", seen}, {"all results, while 2 runs of 1,000,000 rows go on", ends}} {
		slices.Sort(l.times)
		fmt.Fprintf(t, "%s\t%.0f ms\t%.0f ms\t%.0f ms\t\n", l.what, ms(quantile(l.times, 0.5)), ms(quantile(l.times, 0.95)), ms(l.times[len(l.times)-1]))
	}
	_ = t.Flush()
	return judge([]bar{{what: "p95 from start to the first result, on a busy service", figure: ms(quantile(seen, 0.95)), bar: 1000, atMost: true, unit: " ms"}})
}

func quantile(sorted []time.Duration, q float64) time.Duration {
	return sorted[min(len(sorted)-1, int(q*float64(len(sorted))))]
}

// smallLists brings the small lists in.
func smallLists(in *installation, w *practice.World) (ids []int64, err error) {
	all := addressesOf(w, firstStarts*firstRows)
	for n := range firstStarts {
		var rows []string
		for k := range firstRows { // of all operators
			rows = append(rows, all[k*firstStarts+n])
		}
		l, err := in.api.Import(context.Background(), client.File{Name: "guests.csv", Body: strings.NewReader("E-mail\n" + strings.Join(rows, "\n") + "\n")})
		if err != nil {
			return nil, err
		}
		ids = append(ids, l.ID)
	}
	return ids, nil
}

// keepBusy starts runs of a large list and waits until they are well under way.
// Whenever one ends another one begins, until rest is called.
func keepBusy(in *installation, w *practice.World) (rest func() error, err error) {
	ctx, stop := context.WithCancel(context.Background())
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(w.WriteList(writer, firstBusy)) }()
	l, err := in.api.Import(ctx, client.File{Name: "members.csv", Body: reader})
	if err != nil {
		stop()
		return nil, err
	}
	ended := make(chan error, busyRuns)
	under := make(chan struct{}, busyRuns)
	for range busyRuns {
		go func() { ended <- runOver(ctx, in, l.ID, func() { under <- struct{}{} }) }()
	}
	for range busyRuns {
		select {
		case <-under:
		case err := <-ended:
			stop()
			return nil, err
		}
	}
	return func() (err error) {
		stop()
		for range busyRuns {
			err = errors.Join(err, <-ended)
		}
		return err
	}, nil
}

// runOver runs a list over and over until ctx ends, and stops what it began; well
// is called when the first run is well under way.
func runOver(ctx context.Context, in *installation, list int64, well func()) error {
	for said := false; ; {
		r, err := in.api.StartRun(ctx, list, contract.NewRun{Depth: "mailbox", Policy: "careful"})
		if err != nil {
			return unlessEnded(ctx, err)
		}
		_, err = in.api.Wait(ctx, r.ID, func(r contract.Run) {
			if !said && r.Done > firstBusy/50 {
				said = true
				well()
			}
		})
		if ctx.Err() != nil {
			_, err = in.api.StopRun(context.WithoutCancel(ctx), r.ID)
			return err
		}
		if err != nil {
			return err
		}
	}
}

// unlessEnded is an error that does not come of an end that was asked for.
func unlessEnded(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// firstResults runs lists one after the other, and tells when the event stream
// told the first result of each and when the last.
func firstResults(in *installation, lists []int64) (seen, ends []time.Duration, err error) {
	ctx := context.Background()
	for _, id := range lists {
		start, first := time.Now(), time.Duration(0)
		r, err := in.api.StartRun(ctx, id, contract.NewRun{Depth: "mailbox", Policy: "careful"})
		if err == nil {
			_, err = in.api.Wait(ctx, r.ID, func(r contract.Run) {
				if first == 0 && r.Done > 0 {
					first = time.Since(start)
				}
			})
		}
		if err != nil {
			return nil, nil, err
		}
		seen, ends = append(seen, first), append(ends, time.Since(start))
	}
	return seen, ends, nil
}

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
	w, err := practice.Load("fernhollow")
	if err == nil {
		w, err = w.Everywhere("plain")
	}
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
	busy, err := keepBusy(in, w)
	if err != nil {
		return err
	}
	seen, ends, err := firstResults(in, small)
	if err != nil {
		return err
	}
	if r, err := in.api.Run(context.Background(), busy[len(busy)-1]); err != nil || r.FinishedAt != nil {
		return errors.Join(err, errors.New("the large runs ended before the small ones were measured"))
	}
	for _, id := range busy {
		if _, err := in.api.StopRun(context.Background(), id); err != nil {
			return err
		}
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
		l, err := in.api.BringIn(context.Background(), client.File{Name: "guests.csv", Body: strings.NewReader("E-mail\n" + strings.Join(rows, "\n") + "\n")})
		if err != nil {
			return nil, err
		}
		ids = append(ids, l.ID)
	}
	return ids, nil
}

// keepBusy starts runs of a large list and waits until they are well under way.
func keepBusy(in *installation, w *practice.World) (ids []int64, err error) {
	ctx := context.Background()
	reader, writer := io.Pipe()
	go func() { writer.CloseWithError(w.WriteList(writer, firstBusy)) }()
	l, err := in.api.BringIn(ctx, client.File{Name: "members.csv", Body: reader})
	if err != nil {
		return nil, err
	}
	var r contract.Run
	for range busyRuns {
		if r, err = in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"}); err != nil {
			return nil, err
		}
		ids = append(ids, r.ID)
	}
	for err == nil && r.Done < firstBusy/50 {
		time.Sleep(100 * time.Millisecond)
		r, err = in.api.Run(ctx, r.ID)
	}
	return ids, err
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

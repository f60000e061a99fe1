package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"text/tabwriter"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

// intakeRows is how many rows go in and out; VARNET_ROWS makes it fewer, to look
// at something quickly.
var intakeRows = func() int {
	if n, err := strconv.Atoi(os.Getenv("VARNET_ROWS")); err == nil && n > 0 {
		return n
	}
	return 1_000_000
}()

// intake brings a million rows in and takes them out, beside a bare COPY of the
// same rows into a table of one column and out of it, in the same database
// cluster.
func intake() error {
	w, err := practice.Load("fernhollow")
	if err != nil {
		return err
	}
	in, err := install(w, 2704)
	if err != nil {
		return err
	}
	defer in.stop()
	file, err := writeRows(w, intakeRows)
	if err != nil {
		return err
	}
	defer os.Remove(file)
	l, took, floorIn, floorOut, err := ingestRounds(in.api, file)
	if err != nil {
		return err
	}
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "%d rows\tVarnet\tbare COPY\ttimes\t\n", intakeRows)
	line := func(what string, took, floor time.Duration) float64 {
		times := took.Seconds() / floor.Seconds()
		fmt.Fprintf(t, "%s\t%.1f s\t%.1f s\t%.2f\t\n", what, took.Seconds(), floor.Seconds(), times)
		return times
	}
	ctx := context.Background()
	timesIn := line("in: deduplicated, ready to run", took, floorIn)
	run, err := in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "syntax", Policy: "careful"})
	if err == nil {
		run, err = in.api.Wait(ctx, run.ID, func(contract.Run) {})
	}
	if err != nil {
		return err
	}
	bars := []bar{{what: "in, times a bare COPY", figure: timesIn, bar: 4, atMost: true}}
	for _, how := range []contract.ExportChoice{{Decision: "all"}, {Decision: "all", Form: "results"}} {
		start := time.Now()
		if err := in.api.ExportFile(ctx, run.ID, how, io.Discard); err != nil {
			return err
		}
		what := "out: as brought"
		if how.Form != "" {
			what = "out: with result columns"
		}
		bars = append(bars, bar{what: what + ", times a bare COPY", figure: line(what, time.Since(start), floorOut), bar: 4, atMost: true})
	}
	start := time.Now()
	if err := in.api.ExportFile(ctx, run.ID, contract.ExportChoice{Decision: "all", Format: "xlsx"}, io.Discard); err != nil {
		return err
	}
	book := time.Since(start).Seconds()
	_ = t.Flush()
	peak, err := peakMB(in.pid)
	if err != nil {
		return err
	}
	return judge(append(bars, bar{what: "out: as a workbook", figure: book, bar: 90, atMost: true, unit: " s"},
		bar{what: "peak memory of the service", figure: peak, bar: 300, atMost: true, unit: " MB"}))
}

// ingests is how often the rows are imported; the middle time counts.
const ingests = 3

// ingestRounds brings the rows in and copies them bare, turn by turn, so that
// both meet the machine in the same mood.
func ingestRounds(api *client.Client, file string) (l contract.List, took, in, out time.Duration, err error) {
	var all, ins, outs []time.Duration
	for range ingests {
		floorIn, floorOut, err := bareCopy(file)
		if err != nil {
			return l, 0, 0, 0, err
		}
		start := time.Now()
		if l, err = importFile(context.Background(), api, file); err != nil {
			return l, 0, 0, 0, err
		}
		all, ins, outs = append(all, time.Since(start)), append(ins, floorIn), append(outs, floorOut)
	}
	middle := func(d []time.Duration) time.Duration {
		slices.Sort(d)
		return d[len(d)/2]
	}
	return l, middle(all), middle(ins), middle(outs), nil
}

// writeRows writes a list of so many rows to a file of its own.
func writeRows(w *practice.World, rows int) (string, error) {
	f, err := os.CreateTemp("", "varnet-bench-*.csv")
	if err != nil {
		return "", err
	}
	b := bufio.NewWriterSize(f, 1<<20)
	if err := w.WriteList(b, rows); err != nil {
		return "", err
	}
	if err := b.Flush(); err != nil {
		return "", err
	}
	return f.Name(), f.Close()
}

func importFile(ctx context.Context, api *client.Client, file string) (contract.List, error) {
	f, err := os.Open(file)
	if err != nil {
		return contract.List{}, err
	}
	defer f.Close()
	return api.Import(ctx, client.File{Name: "members.csv", Body: f})
}

// bareCopy copies the lines of the file into a table of one column and out.
func bareCopy(file string) (in, out time.Duration, err error) {
	ctx := context.Background()
	dsn, drop, err := database()
	if err != nil {
		return 0, 0, err
	}
	defer drop()
	conn, err := pgx.Connect(ctx, dsn)
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = conn.Close(ctx) }()
	f, err := os.Open(file)
	if err != nil {
		return 0, 0, err
	}
	defer f.Close()
	if _, err := conn.Exec(ctx, "CREATE TABLE line (ordinal bigserial, raw text)"); err != nil {
		return 0, 0, err
	}
	start := time.Now()
	lines := bufio.NewScanner(f)
	_, err = conn.CopyFrom(ctx, pgx.Identifier{"line"}, []string{"raw"}, pgx.CopyFromFunc(func() ([]any, error) {
		if !lines.Scan() {
			return nil, lines.Err()
		}
		return []any{lines.Text()}, nil
	}))
	in = time.Since(start)
	if err != nil {
		return in, 0, err
	}
	start = time.Now()
	_, err = conn.PgConn().CopyTo(ctx, io.Discard, "COPY (SELECT raw FROM line ORDER BY ordinal) TO STDOUT")
	return in, time.Since(start), err
}

package main

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"text/tabwriter"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/contract"
)

// timesRows is how many times as many rows the large list has.
const timesRows = 10

// tenMillion takes a list of a million rows and one of ten million through the same life, on hosts
// that answer at once, and tells what a row takes in each: the small list is the baseline, gone
// through before the large one and after it.
func tenMillion() error {
	in, err := installPlain(2718)
	if err != nil {
		return err
	}
	defer in.stop()
	var lives [3]life
	for i, rows := range []int{intakeRows, timesRows * intakeRows, intakeRows} {
		if lives[i], err = in.live(rows); err != nil {
			return fmt.Errorf("%d rows: %w", rows, err)
		}
	}
	small, large := lives[0].and(lives[2]), lives[1]
	bars := tellLives(small, large)
	bars = append(bars, tellDisk(small, large)...)
	return judge(bars)
}

// life is what was done with a list, in order, and what it took of the disk.
type life struct {
	rows  int
	steps []lived
	disk  map[string]int64 // bytes by table, the file's own under "the file"
}

type lived struct {
	what string
	took time.Duration
	used usage
	peak float64 // MB of the service
	// bar is the most that it may take at any size; 0: its time is held against that of a row of
	// the small list.
	bar time.Duration
}

// and is the middle of two lives of the same kind.
func (l life) and(other life) life {
	l.steps = slices.Clone(l.steps)
	for i := range l.steps {
		s, o := &l.steps[i], other.steps[i]
		s.took, s.peak = (s.took+o.took)/2, max(s.peak, o.peak)
		s.used = usage{(s.used.service + o.used.service) / 2, (s.used.server + o.used.server) / 2, (s.used.internet + o.used.internet) / 2}
	}
	return l
}

// step does something and adds what it took.
func (l *life) step(in *installation, what string, bar time.Duration, do func() error) error {
	if err := resetPeak(in.pid); err != nil {
		return err
	}
	took, used, err := in.measured(do)
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	peak, err := peakMB(in.pid)
	l.steps = append(l.steps, lived{what, took, used, peak, bar})
	fmt.Fprintf(os.Stderr, "%9d rows: %-34s %8.2f s  peak %4.0f MB\n", l.rows, what, took.Seconds(), peak)
	return err
}

// live imports a list, runs it, looks at it, exports it and deletes it.
func (in *installation) live(rows int) (l life, err error) {
	l.rows = rows
	file, err := writeRows(in.net.World, rows)
	if err != nil {
		return l, err
	}
	defer os.Remove(file)
	before, err := in.disk()
	if err != nil {
		return l, err
	}
	ctx := context.Background()
	var list contract.List
	var run contract.Run
	all := func(c contract.ExportChoice) func() error {
		return func() error { return in.api.ExportFile(ctx, run.ID, c, io.Discard) }
	}
	for _, s := range []struct {
		what string
		do   func() error
	}{
		{"import", func() (err error) { list, err = importFile(ctx, in.api, file); return err }},
		{"forecast of a run", func() error {
			_, err := in.api.DraftRun(ctx, list.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
			return err
		}},
		{"run", func() (err error) {
			if run, err = in.api.StartRun(ctx, list.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"}); err == nil {
				run, err = in.api.Wait(ctx, run.ID, func(contract.Run) {})
			}
			if err == nil && run.Done != run.Addresses {
				err = fmt.Errorf("%d of %d addresses have a result", run.Done, run.Addresses)
			}
			return err
		}},
	} {
		if err := l.step(in, s.what, 0, s.do); err != nil {
			return l, err
		}
	}
	if l.disk, err = in.disk(); err != nil {
		return l, err
	}
	for table := range l.disk {
		l.disk[table] -= before[table]
	}
	if f, err := os.Stat(file); err == nil {
		l.disk[theFile] = f.Size()
	}
	for _, f := range filters {
		i := 0
		bar := 150 * time.Millisecond
		if f.filter.Get("search") != "" {
			bar = 0 // it reads the list's texts
		}
		page := func() error {
			q := url.Values{"limit": {"100"}, "cursor": {contract.CursorOf(run.Addresses * int64(i) / looks)}}
			for k, v := range f.filter {
				q[k] = v
			}
			i++
			_, err := in.api.Results(ctx, run.ID, q)
			return err
		}
		if err := l.often(in, "page by "+f.what, bar, page); err != nil {
			return l, err
		}
	}
	for _, f := range filters {
		if f.filter.Get("search") == "" && len(f.filter) > 0 && f.filter.Get("finding") == "" {
			continue
		}
		if err := l.step(in, "counts by "+f.what, 0, func() error { _, err := in.api.Matching(ctx, run.ID, f.filter); return err }); err != nil {
			return l, err
		}
	}
	for _, s := range []struct {
		what string
		do   func() error
	}{
		{"operators", func() error { _, err := in.api.RunOperators(ctx, run.ID, nil); return err }},
		{"export of the kept rows", all(contract.ExportChoice{})},
		{"export of all rows with results", all(contract.ExportChoice{Decision: "all", Form: "results"})},
		{"run that reuses all results", func() error {
			r, err := in.api.StartRun(ctx, list.ID, contract.NewRun{Depth: "mailbox", Policy: "careful", ReuseDays: 30})
			if err == nil {
				r, err = in.api.Wait(ctx, r.ID, func(contract.Run) {})
			}
			if err == nil && (r.Done != r.Addresses || r.Reused == 0) {
				err = fmt.Errorf("%d of %d addresses have a result, %d of them reused", r.Done, r.Addresses, r.Reused)
			}
			return err
		}},
		{"delete", func() error { return in.deleted(ctx, list.ID) }},
	} {
		if err := l.step(in, s.what, 0, s.do); err != nil {
			return l, err
		}
	}
	return l, nil
}

// often does something several times: the 95th of 100 times counts.
func (l *life) often(in *installation, what string, bar time.Duration, do func() error) error {
	took := make([]time.Duration, looks)
	err := l.step(in, what, bar, func() error {
		for i := range took {
			start := time.Now()
			if err := do(); err != nil {
				return err
			}
			took[i] = time.Since(start)
		}
		return nil
	})
	slices.Sort(took)
	l.steps[len(l.steps)-1].took = took[looks*95/100]
	return err
}

// deleted deletes a list and waits until nothing of it is left.
func (in *installation) deleted(ctx context.Context, list int64) error {
	if err := in.api.DeleteList(ctx, list); err != nil {
		return err
	}
	conn, err := pgx.Connect(ctx, in.dsn)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for left := true; left; time.Sleep(50 * time.Millisecond) {
		if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM row_block) OR EXISTS (SELECT FROM batch)").Scan(&left); err != nil {
			return err
		}
	}
	return nil
}

// theFile is what the file itself takes.
const theFile = "the file itself"

// disk is how many bytes the tables take, with their indexes, by table.
func (in *installation) disk() (map[string]int64, error) {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, in.dsn)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, "SELECT relname, pg_total_relation_size(oid) FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace")
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	var table string
	var size int64
	_, err = pgx.ForEachRow(rows, []any{&table, &size}, func() error { out[table] = size; return nil })
	return out, err
}

// tellLives prints what each step took of both lists, for a row.
func tellLives(small, large life) (bars []bar) {
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "\t%d rows\ta row\t%d rows\ta row\ttimes\tpeak of the service\tservice\tPostgreSQL\tpractice hosts\t\n", small.rows, large.rows)
	for i, s := range large.steps {
		b := small.steps[i]
		of := func(l life, s lived) string {
			return fmt.Sprintf("%.2f µs", float64(s.took.Nanoseconds())/1000/float64(l.rows))
		}
		times := s.took.Seconds() / b.took.Seconds() / float64(large.rows) * float64(small.rows)
		fmt.Fprintf(t, "%s\t%v\t%s\t%v\t%s\t%.2f\t%.0f MB\t%.1f s\t%.1f s\t%.1f s\t\n", s.what, short(b.took), of(small, b), short(s.took), of(large, s), times, s.peak,
			s.used.service.Seconds(), s.used.server.Seconds(), s.used.internet.Seconds())
		if s.bar > 0 {
			bars = append(bars, bar{"p95 of a " + s.what, ms(s.took), ms(s.bar), true, " ms"})
		} else {
			bars = append(bars, bar{s.what + ", a row, times one of the small list", times, 1.3, true, ""})
		}
	}
	_ = t.Flush()
	peak := slices.MaxFunc(large.steps, func(a, b lived) int { return int(a.peak - b.peak) })
	return append(bars, bar{"peak memory of the service (" + peak.what + ")", peak.peak, 300, true, " MB"})
}

// tellDisk prints what a row takes of the disk.
func tellDisk(small, large life) []bar {
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "\nbytes of the disk a row\t%d rows\t%d rows\t\n", small.rows, large.rows)
	beyond := -float64(large.disk[theFile]) / float64(large.rows)
	var tables []string
	for table, n := range large.disk {
		if n > int64(large.rows) { // a byte a row
			tables = append(tables, table)
		}
		if table != theFile {
			beyond += float64(n) / float64(large.rows)
		}
	}
	slices.SortFunc(tables, func(a, b string) int { return int(large.disk[b] - large.disk[a]) })
	for _, table := range tables {
		fmt.Fprintf(t, "%s\t%.1f\t%.1f\t\n", table, float64(small.disk[table])/float64(small.rows), float64(large.disk[table])/float64(large.rows))
	}
	_ = t.Flush()
	return []bar{{"disk beyond the file itself, bytes a row", beyond, 200, true, ""}}
}

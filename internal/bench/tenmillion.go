package main

import (
	"context"
	"errors"
	"fmt"
	"io"
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
	of    string // what it is the life of, as tables are headed
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

// living is a list whose life is being measured.
type living struct {
	life
	in   *installation
	list contract.List
	run  contract.Run
}

// live imports a list, runs it, looks at it, exports it and deletes it.
func (in *installation) live(rows int) (life, error) {
	file, err := writeRows(in.net.World, rows)
	if err != nil {
		return life{}, err
	}
	defer os.Remove(file)
	l := &living{life: life{of: fmt.Sprintf("%d rows", rows), rows: rows}, in: in}
	for _, part := range []func(context.Context) error{
		func(ctx context.Context) error { return l.verify(ctx, file) },
		l.look, l.count, l.finish,
	} {
		if err := part(context.Background()); err != nil {
			return l.life, err
		}
	}
	return l.life, nil
}

// step does something and adds what it took.
func (l *living) step(what string, bar time.Duration, do func() error) error {
	if err := resetPeak(l.in.pid); err != nil {
		return err
	}
	took, used, err := l.in.measured(do)
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	peak, err := peakMB(l.in.pid)
	l.steps = append(l.steps, lived{what, took, used, peak, bar})
	fmt.Fprintf(os.Stderr, "%9d rows: %-34s %8.2f s  peak %4.0f MB\n", l.rows, what, took.Seconds(), peak)
	return err
}

// often does something a hundred times: the 95th of them counts.
func (l *living) often(what string, bar time.Duration, do func(i int) error) error {
	return l.times(what, bar, looks, looks*95/100, do)
}

// middle does something a few times: the middle one counts.
func (l *living) middle(what string, do func() error) error {
	return l.times(what, 0, 5, 2, func(int) error { return do() })
}

// times does something n times, of which the one at a place counts when they are in order.
func (l *living) times(what string, bar time.Duration, n, at int, do func(i int) error) error {
	took := make([]time.Duration, n)
	err := l.step(what, bar, func() error {
		for i := range took {
			start := time.Now()
			if err := do(i); err != nil {
				return err
			}
			took[i] = time.Since(start)
		}
		return nil
	})
	slices.Sort(took)
	l.steps[len(l.steps)-1].took = took[at]
	return err
}

// verify imports the file and runs its list, and sees what both take of the disk.
func (l *living) verify(ctx context.Context, file string) error {
	before, err := l.in.disk()
	if err != nil {
		return err
	}
	choice := contract.NewRun{Depth: "mailbox", Policy: "careful"}
	if err := l.step("import", 0, func() (err error) { l.list, err = importFile(ctx, l.in.api, file); return err }); err != nil {
		return err
	}
	if err := l.middle("forecast of a run", func() error { _, err := l.in.api.DraftRun(ctx, l.list.ID, choice); return err }); err != nil {
		return err
	}
	if err := l.step("run", 0, func() (err error) { l.run, err = l.runWhole(ctx, choice); return err }); err != nil {
		return err
	}
	if l.disk, err = l.in.disk(); err != nil {
		return err
	}
	for table := range l.disk {
		l.disk[table] -= before[table]
	}
	f, err := os.Stat(file)
	if err == nil {
		l.disk[theFile] = f.Size()
	}
	return err
}

// runWhole runs the list until every address has a result.
func (l *living) runWhole(ctx context.Context, choice contract.NewRun) (contract.Run, error) {
	r, err := l.in.api.StartRun(ctx, l.list.ID, choice)
	if err == nil {
		r, err = l.in.api.Wait(ctx, r.ID, func(contract.Run) {})
	}
	switch {
	case err != nil:
	case r.Done != r.Addresses:
		err = fmt.Errorf("%d of %d addresses have a result", r.Done, r.Addresses)
	case choice.ReuseDays > 0 && r.Reused == 0:
		err = errors.New("no result was reused")
	}
	return r, err
}

// look turns pages all over the run's results, by every filter.
func (l *living) look(context.Context) error {
	for _, f := range filters {
		bar := 150 * time.Millisecond
		if f.readsTexts() {
			bar = 0 // it takes the longer the longer the list
		}
		if err := l.often("page by "+f.what, bar, func(i int) error { return l.in.page(l.run, f, i) }); err != nil {
			return err
		}
	}
	return nil
}

// count counts what matches the filters whose counts are not kept ready.
func (l *living) count(ctx context.Context) error {
	for _, f := range filters {
		if !f.readsTexts() && len(f.query) > 0 && !f.query.Has("finding") {
			continue
		}
		if err := l.middle("counts by "+f.what, func() error { _, err := l.in.api.Matching(ctx, l.run.ID, f.query); return err }); err != nil {
			return err
		}
	}
	return l.middle("operators", func() error { _, err := l.in.api.RunOperators(ctx, l.run.ID, nil); return err })
}

// finish exports the rows, reuses their results in a further run and deletes all.
func (l *living) finish(ctx context.Context) error {
	written := func(c contract.ExportChoice) func() error {
		return func() error { return l.in.api.ExportFile(ctx, l.run.ID, c, io.Discard) }
	}
	if err := l.step("export of the kept rows", 0, written(contract.ExportChoice{})); err != nil {
		return err
	}
	if err := l.step("export of all rows with results", 0, written(contract.ExportChoice{Decision: "all", Form: "results"})); err != nil {
		return err
	}
	if err := l.step("run that reuses all results", 0, func() error {
		_, err := l.runWhole(ctx, contract.NewRun{Depth: "mailbox", Policy: "careful", ReuseDays: 30})
		return err
	}); err != nil {
		return err
	}
	return l.step("delete", 0, func() error { return l.in.deleted(ctx, l.list.ID) })
}

// deleted deletes a list and waits until nothing of it is left.
func (in *installation) deleted(ctx context.Context, list int64) error {
	conn, err := pgx.Connect(ctx, in.dsn)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var runs []int64
	if err := conn.QueryRow(ctx, "SELECT array_agg(id) FROM run WHERE list_id = $1", list).Scan(&runs); err != nil {
		return err
	}
	if err := in.api.DeleteList(ctx, list); err != nil {
		return err
	}
	for left := true; left; time.Sleep(50 * time.Millisecond) {
		if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM row_block WHERE list_id = $1) OR EXISTS (SELECT FROM batch WHERE run_id = ANY($2))", list, runs).Scan(&left); err != nil {
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
	fmt.Fprintf(t, "\t%s\ta row\t%s\ta row\ttimes\tpeak of the service\tservice\tPostgreSQL\tpractice hosts\t\n", small.of, large.of)
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
			bars = append(bars, bar{s.what + ", a row, times one of the baseline", times, 1.3, true, ""})
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

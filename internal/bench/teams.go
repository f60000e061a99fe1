package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"syscall"
	"text/tabwriter"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"varnet/internal/client"
	"varnet/internal/contract"
)

// Many teams on one installation.
const (
	teamsSpaces = 1_000
	teamsLists  = 20 // of each
	teamsGoing  = 160
	teamsGreedy = 40 // runs of one more workspace, so that 200 go on at once
	teamsRows   = 480
	teamsLarge  = 20_000 // rows of a run that goes on before
	teamsPort   = 2720
	// teamsOperators are the hosts, some of which allow fewer sessions than others.
	teamsOperators = 10

	teamsMetrics = "127.0.0.1:27201"
)

// teams measures what an installation of many workspaces takes beside one of one, and how runs of many share
// the same mail hosts: every workspace alike, one with many runs and one with a large one included.
func teams() error {
	w, err := farWorld(nil, teamsOperators)
	if err != nil {
		return err
	}
	in, err := install(w, teamsPort, "VARNET_ROUNDS=1s", "VARNET_METRICS="+teamsMetrics)
	if err != nil {
		return err
	}
	defer in.stop()
	if err := in.roomy(); err != nil {
		return err
	}
	if _, err := in.one("first", 0); err != nil {
		return err
	}
	alone, err := in.everyday()
	if err != nil {
		return err
	}
	if err := in.many(); err != nil {
		return err
	}
	among, err := in.everyday()
	if err != nil {
		return err
	}
	shares, err := in.shares()
	if err != nil {
		return err
	}
	during, err := in.clockJobs()
	if err != nil {
		return err
	}
	tellTeams(alone, among, during, shares)
	peak, err := peakMB(in.pid)
	if err != nil {
		return err
	}
	bars := []bar{
		{"times the baseline, start until ready", among.start.Seconds() / alone.start.Seconds(), 1.5, true, ""},
		{"p95 of metrics", ms(among.metrics), 150, true, " ms"},
		{"p95 of a page of lists", ms(among.lists), 150, true, " ms"},
		{"p95 of a run's page", ms(among.run), 150, true, " ms"},
		{"longest mean of a clock job while 200 runs go on", ms(during.longest()), 100, true, " ms"},
		{"results of the workspace with 40 runs, times those of one with one run, where others wait", shares.busy - shares.early, 1.6, true, ""},
		{"p95 of the time to the end, times the median, of workspaces with one run", shares.spread, 1.5, true, ""},
		{"peak memory of the service", peak, 300, true, " MB"},
	}
	return judge(bars)
}

// one imports a list in a workspace, runs it to the mailbox and returns the run.
func (in *installation) one(workspace string, from int) (contract.Run, error) {
	ctx := context.Background()
	l, err := in.bring(ctx, addressesOf(in.net.World, from+teamsRows)[from:])
	if err != nil {
		return contract.Run{}, err
	}
	run, err := in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	if err == nil {
		run, err = in.api.Wait(ctx, run.ID, func(contract.Run) {})
	}
	if err != nil {
		return run, fmt.Errorf("the list of %s: %w", workspace, err)
	}
	return run, nil
}

// everydayTimes are what everyday things take.
type everydayTimes struct{ start, metrics, lists, run time.Duration }

// everyday measures them.
func (in *installation) everyday() (l everydayTimes, err error) {
	ctx := context.Background()
	var starts []time.Duration
	for range 5 {
		_ = in.processes[0].Process.Signal(syscall.SIGTERM)
		_ = in.processes[0].Wait()
		begun := time.Now()
		in.processes[0] = in.command("serve", "-log-level", "warn")
		if err := in.processes[0].Start(); err != nil {
			return l, err
		}
		in.pid = in.processes[0].Process.Pid
		if err := await(in.url + "/readyz"); err != nil {
			return l, err
		}
		starts = append(starts, time.Since(begun))
	}
	slices.Sort(starts)
	l.start = starts[len(starts)/2]
	time.Sleep(2 * time.Second)
	runs, err := in.api.Runs(ctx, contract.PageQuery{Limit: 1})
	if err != nil {
		return l, err
	}
	if len(runs.Items) == 0 {
		return l, errors.New("there is no run to look at")
	}
	often := func(do func() error) (time.Duration, error) {
		took := make([]time.Duration, looks)
		for i := range took {
			begun := time.Now()
			if err := do(); err != nil {
				return 0, err
			}
			took[i] = time.Since(begun)
		}
		slices.Sort(took)
		return took[looks*95/100], nil
	}
	if l.lists, err = often(func() error { _, err := in.api.Lists(ctx, contract.ListQuery{}); return err }); err != nil {
		return l, err
	}
	if l.run, err = often(func() error { _, err := in.api.Run(ctx, runs.Items[0].ID); return err }); err != nil {
		return l, err
	}
	l.metrics, err = often(func() error {
		resp, err := http.Get("http://" + teamsMetrics + "/metrics")
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		if _, err := io.Copy(io.Discard, resp.Body); err != nil || resp.StatusCode != http.StatusOK {
			return fmt.Errorf("metrics: %s, %v", resp.Status, err)
		}
		return nil
	})
	return l, err
}

// many copies the first list and its run: so many workspaces with so many lists each.
func (in *installation) many() error {
	return in.copies(context.Background(),
		fmt.Sprintf("INSERT INTO workspace (name) SELECT 'team ' || n FROM generate_series(1, %d) n", teamsSpaces),
		"CREATE TEMP TABLE copy AS SELECT w.id AS workspace, nextval(pg_get_serial_sequence('list', 'id')) AS list, nextval(pg_get_serial_sequence('run', 'id')) AS run FROM workspace w, generate_series(1, "+fmt.Sprint(teamsLists)+") WHERE w.name LIKE 'team %'")
}

// copies copies the first list and its run as often as the table copy says, which before makes; what the hourly
// upkeep makes of a run is made of all of them, as it would be by then.
func (in *installation) copies(ctx context.Context, before ...string) error {
	conn, err := pgx.Connect(ctx, in.dsn)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for _, sql := range slices.Concat(before, []string{
		copied("list", "id", "copy.list", "workspace_id", "copy.workspace", "name", "'members ' || copy.list", "key", "NULL"),
		copied("run", "id", "copy.run", "workspace_id", "copy.workspace", "list_id", "copy.list", "remembered_at", "o.finished_at + interval '1 day'"),
		copied("row_block", "list_id", "copy.list"), copied("list_domain", "list_id", "copy.list"), copied("list_part", "list_id", "copy.list"),
		copied("batch", "run_id", "copy.run", "id", "o.id"), copied("latest_part", "run_id", "copy.run"), copied("latest_fold", "run_id", "copy.run"),
		copied("tally", "run_id", "copy.run"), copied("run_domain", "run_id", "copy.run"),
		"VACUUM ANALYZE", "CHECKPOINT", // as it would be a while later
	}) {
		if strings.HasPrefix(sql, "copy of ") {
			table, rest, _ := strings.Cut(strings.TrimPrefix(sql, "copy of "), ": ")
			if sql, err = copySQL(ctx, conn, table, strings.Split(rest, " | ")); err != nil {
				return err
			}
		}
		if _, err := conn.Exec(ctx, sql); err != nil {
			return fmt.Errorf("%s: %w", sql, err)
		}
	}
	return nil
}

// copied tells copySQL to copy the records of a table, with other values in some columns.
func copied(table string, columns ...string) string {
	return "copy of " + table + ": " + strings.Join(columns, " | ")
}

func copySQL(ctx context.Context, conn *pgx.Conn, table string, other []string) (string, error) {
	rows, err := conn.Query(ctx, "SELECT attname FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attisdropped AND attgenerated = '' ORDER BY attnum", table)
	if err != nil {
		return "", err
	}
	columns, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return "", err
	}
	var names, values []string
	for _, c := range columns {
		value := "o." + pgx.Identifier{c}.Sanitize()
		if at := slices.Index(other, c); at >= 0 && at%2 == 0 {
			value = other[at+1]
		} else if c == "id" {
			continue // its own
		}
		names, values = append(names, pgx.Identifier{c}.Sanitize()), append(values, value)
	}
	return fmt.Sprintf("INSERT INTO %[1]s (%[2]s) OVERRIDING SYSTEM VALUE SELECT %[3]s FROM (SELECT * FROM %[1]s WHERE %[4]s) o, copy", table, strings.Join(names, ", "), strings.Join(values, ", "),
		map[string]string{"list": "id = (SELECT min(id) FROM list)", "run": "id = (SELECT min(id) FROM run)", "row_block": ofFirstList, "list_domain": ofFirstList, "list_part": ofFirstList,
			"batch": ofFirstRun, "latest_part": ofFirstRun, "latest_fold": ofFirstRun, "tally": ofFirstRun, "run_domain": ofFirstRun}[table]), nil
}

const (
	ofFirstList = "list_id = (SELECT min(id) FROM list)"
	ofFirstRun  = "run_id = (SELECT min(id) FROM run)"
)

// teamsShares is how runs of many workspaces shared the hosts.
type teamsShares struct {
	first, end []time.Duration // of the workspaces with one run, in order
	// greedy is how many results the workspace with many runs had when half of the others were at their end, in
	// runs of one; busy the same at the operators alone at which the other half still waited: elsewhere hosts
	// had nobody else to serve. Of those it had early before all others' runs were planned, when there was nobody
	// to share with either.
	greedy, busy, early, spread float64
	large                       int64 // results of the large run in the meantime
	planned, took               time.Duration
}

// sharing is what many workspaces run at once: the first of them has a large list, the others one
// each, and the last many.
type sharing struct {
	operators []string
	spaces    []*client.Client // the last is that of the workspace with many runs
	large     contract.List
	lists     []contract.List // of each of the others, then those of the last
}

// sharing imports the lists, each with addresses of all operators.
func (in *installation) sharing(ctx context.Context) (s sharing, err error) {
	for _, o := range in.net.World.Operators {
		s.operators = append(s.operators, o.Name)
	}
	all := addressesOf(in.net.World, teamsLarge+(teamsGoing+teamsGreedy)*teamsRows)
	imported := func(api *client.Client, n int) (contract.List, error) {
		var some []string
		some, all = spread(all, n)
		return api.Import(ctx, client.File{Name: "guests.csv", Body: strings.NewReader("E-mail\n" + strings.Join(some, "\n") + "\n")})
	}
	if s.spaces, err = in.keys(teamsGoing + 1); err != nil {
		return s, err
	}
	if s.large, err = imported(in.api, teamsLarge); err != nil {
		return s, err
	}
	for n := range teamsGoing + teamsGreedy {
		l, err := imported(s.spaces[min(n, teamsGoing)], teamsRows)
		if err != nil {
			return s, err
		}
		s.lists = append(s.lists, l)
	}
	return s, nil
}

// spread takes n of all, at the same distance, and returns them and what is left.
func spread(all []string, n int) (some, left []string) {
	stride := len(all) / n
	for i, a := range all {
		if i%stride == 0 && i/stride < n {
			some = append(some, a)
		} else {
			left = append(left, a)
		}
	}
	return some, left
}

// began starts a run of a list.
func began(ctx context.Context, api *client.Client, l contract.List) (contract.Run, error) {
	return api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
}

// shares has many workspaces run at once.
func (in *installation) shares() (s teamsShares, err error) {
	ctx := context.Background()
	of, err := in.sharing(ctx)
	if err != nil {
		return s, err
	}
	large, err := began(ctx, in.api, of.large)
	if err != nil {
		return s, err
	}
	before, err := in.api.Run(ctx, large.ID)
	if err != nil {
		return s, err
	}
	// The workspace with many runs begins first.
	last := of.spaces[teamsGoing]
	var greedy []contract.Run
	for _, l := range of.lists[teamsGoing:] {
		r, err := began(ctx, last, l)
		if err != nil {
			return s, err
		}
		greedy = append(greedy, r)
	}
	begun := time.Now()
	half, ended := of.others(ctx, &s, begun)
	if err := of.planned(ctx); err != nil {
		return s, err
	}
	s.planned = time.Since(begun)
	early, err := of.byOperator(ctx, greedy)
	if err != nil {
		return s, err
	}
	<-half
	for _, r := range greedy {
		now, err := last.Run(ctx, r.ID)
		if err != nil {
			return s, err
		}
		s.greedy += float64(now.Done) / teamsRows
	}
	if s.busy, s.early, err = of.atBusy(ctx, greedy, early); err != nil {
		return s, err
	}
	if err := ended(); err != nil {
		return s, err
	}
	s.took = time.Since(begun)
	after, err := in.api.Run(ctx, large.ID)
	if err != nil {
		return s, err
	}
	s.large = after.Done - before.Done
	slices.Sort(s.first)
	slices.Sort(s.end)
	s.spread = quantile(s.end, 0.95).Seconds() / quantile(s.end, 0.5).Seconds()
	_, err = in.api.StopRun(ctx, large.ID)
	return s, err
}

// planned returns once the run of each of the others waits for hosts, or has results.
func (of sharing) planned(ctx context.Context) error {
	for _, api := range of.spaces[:teamsGoing] {
		for {
			runs, err := api.Runs(ctx, contract.PageQuery{Limit: 1})
			if err != nil {
				return err
			}
			if len(runs.Items) > 0 && (len(runs.Items[0].Waits) > 0 || runs.Items[0].Done > 0) {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	return nil
}

// byOperator counts the results of some runs of the last workspace.
func (of sharing) byOperator(ctx context.Context, runs []contract.Run) (map[string]int64, error) {
	var mu sync.Mutex
	results := map[string]int64{}
	var all errgroup.Group
	all.SetLimit(8)
	for _, operator := range of.operators {
		for _, r := range runs {
			all.Go(func() error {
				m, err := of.spaces[teamsGoing].Matching(ctx, r.ID, url.Values{"operator": {operator}})
				mu.Lock()
				defer mu.Unlock()
				results[operator] += m.Addresses
				return err
			})
		}
	}
	return results, all.Wait()
}

// atBusy returns how many results some runs of the last workspace have at operators at which others wait, and had
// there early, in runs of one.
func (of sharing) atBusy(ctx context.Context, greedy []contract.Run, early map[string]int64) (now, before float64, err error) {
	busy := map[string]bool{}
	for _, api := range of.spaces[:teamsGoing] {
		runs, err := api.Runs(ctx, contract.PageQuery{Limit: 1})
		if err != nil {
			return 0, 0, err
		}
		for _, w := range runs.Items[0].Waits {
			busy[w.Operator] = true
		}
	}
	results, err := of.byOperator(ctx, greedy)
	one := float64(teamsRows/teamsOperators) * float64(max(1, len(busy)))
	for operator := range busy {
		now, before = now+float64(results[operator])/one, before+float64(early[operator])/one
	}
	return now, before, err
}

// others has each of the other workspaces run its list, and notes when its first results and its end
// came. half is closed when half of them are at their end; ended waits for all.
func (of sharing) others(ctx context.Context, s *teamsShares, begun time.Time) (half chan struct{}, ended func() error) {
	var mu sync.Mutex
	var going errgroup.Group
	half = make(chan struct{})
	for n := range teamsGoing {
		going.Go(func() error {
			first := time.Duration(0)
			r, err := began(ctx, of.spaces[n], of.lists[n])
			if err == nil {
				_, err = of.spaces[n].Wait(ctx, r.ID, func(r contract.Run) {
					if first == 0 && r.Done > 0 {
						first = time.Since(begun)
					}
				})
			}
			mu.Lock()
			defer mu.Unlock()
			if s.first, s.end = append(s.first, first), append(s.end, time.Since(begun)); len(s.end) == teamsGoing/2 {
				close(half)
			}
			return err
		})
	}
	return half, going.Wait
}

// keys makes keys of some of the workspaces.
func (in *installation) keys(n int) (out []*client.Client, err error) {
	for i := range n {
		key, err := in.command("key", "new", "-workspace", fmt.Sprintf("team %d", i+1)).Output()
		if err != nil {
			return nil, err
		}
		out = append(out, client.New(in.url, strings.TrimSpace(string(key))))
	}
	return out, nil
}

// jobTimes are the mean times of jobs by their kind.
type jobTimes map[string]time.Duration

func (j jobTimes) longest() (d time.Duration) {
	for _, t := range j {
		d = max(d, t)
	}
	return d
}

// clockJobs returns how long the jobs took lately that look at everything now and then.
func (in *installation) clockJobs() (jobTimes, error) {
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, in.dsn)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, `SELECT kind, avg(extract(epoch FROM finalized_at - attempted_at))::float8 FROM river_job
		WHERE state = 'completed' AND kind IN ('calendar', 'clock', 'retention', 'follow', 'verify') AND attempted_at > now() - interval '2 minutes' GROUP BY 1`)
	if err != nil {
		return nil, err
	}
	out := jobTimes{}
	var kind string
	var seconds float64
	_, err = pgx.ForEachRow(rows, []any{&kind, &seconds}, func() error {
		out[kind] = time.Duration(seconds * float64(time.Second))
		return nil
	})
	return out, err
}

func tellTeams(alone, among everydayTimes, during jobTimes, s teamsShares) {
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "\t1 workspace, 1 list\t%d workspaces, %d lists, as many runs\t\n", teamsSpaces, teamsSpaces*teamsLists)
	for _, l := range []struct {
		what    string
		a, many time.Duration
	}{{"start until ready, middle of 5", alone.start, among.start}, {"metrics, p95", alone.metrics, among.metrics}, {"a page of lists, p95", alone.lists, among.lists}, {"a run's page, p95", alone.run, among.run}} {
		fmt.Fprintf(t, "%s\t%v\t%v\t\n", l.what, short(l.a), short(l.many))
	}
	_ = t.Flush()
	fmt.Println()
	fmt.Fprintf(t, "clock jobs while %d runs go on\tmean\t\n", teamsGoing+teamsGreedy+1)
	for _, kind := range slices.Sorted(func(yield func(string) bool) {
		for k := range during {
			if !yield(k) {
				return
			}
		}
	}) {
		fmt.Fprintf(t, "%s\t%v\t\n", kind, short(during[kind]))
	}
	_ = t.Flush()
	fmt.Println()
	fmt.Fprintf(t, "%d workspaces with a run of %d rows each, beside one with %d such runs and one of %d rows\tp50\tp95\tmost\t\n", teamsGoing, teamsRows, teamsGreedy, teamsLarge)
	for _, l := range []struct {
		what string
		d    []time.Duration
	}{{"first result", s.first}, {"end", s.end}} {
		fmt.Fprintf(t, "%s\t%.1f s\t%.1f s\t%.1f s\t\n", l.what, quantile(l.d, 0.5).Seconds(), quantile(l.d, 0.95).Seconds(), l.d[len(l.d)-1].Seconds())
	}
	_ = t.Flush()
	fmt.Printf("when half of them were at their end, the workspace with %d runs had the results of %.1f runs, and of %.1f at the operators at which others still waited, of which it had %.1f before all others were planned, after %.1f s; in %.0f s the large run had %d results\n\n", teamsGreedy, s.greedy, s.busy, s.early, s.planned.Seconds(), s.took.Seconds(), s.large)
}

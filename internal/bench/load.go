package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"text/tabwriter"
	"time"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

// The load: people who read, open consoles, and files on their way in and out, at the same time.
const (
	loadFor     = 60 * time.Second
	loadRows    = 1_000_000 // of the list that is read and exported
	loadReaders = 50
	loadStreams = 200
	loadImports = 20
	loadExports = 10
	importRows  = 20_000
	// loadThinks is how long a reader looks at what came before asking for the next.
	loadThinks = time.Second
)

// tried is what was done of a kind, and what failed.
type tried struct {
	mu     sync.Mutex
	done   []sample // in their order, until sort
	errors map[string]int
}

// sample is when something began, and how long it took.
type sample struct {
	begun time.Time
	took  time.Duration
}

func (t *tried) do(ctx context.Context, what func() error) (took time.Duration) {
	begun := time.Now()
	err := what()
	took = time.Since(begun)
	if ctx.Err() != nil {
		return took // broken off at the end
	}
	if err == nil {
		t.add(begun, took)
		return took
	}
	t.failed(err)
	return took
}

func (t *tried) failed(err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.errors[err.Error()]++
}

func (t *tried) add(begun time.Time, took time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.done = append(t.done, sample{begun, took})
}

// sort has the shortest first, as share needs it.
func (t *tried) sort() {
	slices.SortFunc(t.done, func(a, b sample) int { return cmp.Compare(a.took, b.took) })
}

// share is within how long a share of them was done; 0 of none.
func (t *tried) share(of float64) time.Duration {
	if len(t.done) == 0 {
		return 0
	}
	return t.done[int(float64(len(t.done)-1)*of)].took
}

// begunIn returns those of sorted ones that began at such moments.
func (t *tried) begunIn(moments func(time.Time) bool) *tried {
	in := &tried{}
	for _, d := range t.done {
		if moments(d.begun) {
			in.done = append(in.done, d)
		}
	}
	return in
}

// figures are how many were done, and within how long half, 95 and 99 of a hundred were, as cells of a table.
func (t *tried) figures() string {
	return fmt.Sprintf("%d\t%v\t%v\t%v\t", len(t.done), short(t.share(0.5)), short(t.share(0.95)), short(t.share(0.99)))
}

// load has many people and programs at work at once, and tells how long everybody waits.
func load() error {
	w, err := practice.Load("fernhollow")
	if err != nil {
		return err
	}
	in, err := install(w, 2713, "VARNET_ROUNDS=1s")
	if err != nil {
		return err
	}
	defer in.stop()
	if err := in.roomy(); err != nil {
		return err
	}
	run, err := in.large(w, loadRows)
	if err != nil {
		return err
	}
	var file strings.Builder
	if err := w.WriteList(&file, importRows); err != nil {
		return err
	}
	failed := tellLoad(in.crowdAt(run, file.String()))
	peak, err := peakMB(in.pid)
	if err != nil {
		return err
	}
	return judge([]bar{{"errors", float64(failed), 0, true, ""}, {"peak memory of the service", peak, abuseMemory, true, " MB"}})
}

// What is done at once.
const (
	readLists   = "lists"
	readRun     = "a run"
	readResults = "a page of results"
	readFinding = "a page by finding"
	readCounts  = "counts of a filter"
	importSmall = "import of 20,000 rows"
	exportLarge = "export of a million rows"
	watchEvents = "event stream"
)

var loadKinds = []string{readLists, readRun, readResults, readFinding, readCounts, importSmall, exportLarge, watchEvents}

// crowdAt has everybody at work for a while, at a run and with a file, and returns what became of
// each kind of work.
func (in *installation) crowdAt(run int64, file string) map[string]*tried {
	by := map[string]*tried{}
	for _, k := range loadKinds {
		by[k] = &tried{errors: map[string]int{}}
	}
	ctx, cancel := context.WithTimeout(context.Background(), loadFor)
	defer cancel()
	var all sync.WaitGroup
	many := func(n int, what string, do func(api *client.Client, n, i int) error) {
		for n := range n {
			all.Go(func() {
				api := client.New(in.url, in.key)
				for i := 0; ctx.Err() == nil; i++ {
					by[what].do(ctx, func() error { return do(api, n, i) })
				}
			})
		}
	}
	many(loadStreams, watchEvents, func(api *client.Client, _, _ int) error {
		return api.Watch(ctx, func() {}, func(contract.WorkspaceChange) {})
	})
	many(loadImports, importSmall, func(api *client.Client, n, i int) error {
		_, err := api.Import(ctx, client.File{Name: fmt.Sprintf("members-%d-%d.csv", n, i), Body: strings.NewReader(file)})
		return err
	})
	many(loadExports, exportLarge, func(api *client.Client, _, _ int) error {
		return api.ExportFile(ctx, run, contract.ExportChoice{Decision: "all"}, io.Discard)
	})
	for n := range loadReaders {
		all.Go(func() { in.reader(ctx, n, run, by) })
	}
	all.Wait()
	return by
}

// reader looks at one thing after the other, as somebody at the console does.
func (in *installation) reader(ctx context.Context, n int, run int64, by map[string]*tried) {
	api := client.New(in.url, in.key)
	time.Sleep(time.Duration(n) * loadThinks / loadReaders)
	for i := n; ctx.Err() == nil; i++ {
		switch i % 5 {
		case 0:
			by[readLists].do(ctx, func() error { _, err := api.Lists(ctx, contract.ListQuery{}); return err })
		case 1:
			by[readRun].do(ctx, func() error { _, err := api.Run(ctx, run); return err })
		case 2:
			by[readResults].do(ctx, func() error {
				_, err := api.Results(ctx, run, url.Values{"limit": {"100"}, "cursor": {contract.CursorOf(int64(i*7919) % loadRows)}})
				return err
			})
		case 3:
			by[readFinding].do(ctx, func() error {
				_, err := api.Results(ctx, run, url.Values{"limit": {"100"}, "finding": {"undeliverable"}})
				return err
			})
		case 4:
			by[readCounts].do(ctx, func() error { _, err := api.Matching(ctx, run, url.Values{"finding": {"undeliverable"}}); return err })
		}
		select {
		case <-time.After(loadThinks):
		case <-ctx.Done():
		}
	}
}

// roomy lets one workspace have what many have.
func (in *installation) roomy() error {
	ctx := context.Background()
	i, err := in.api.Installation(ctx)
	if err != nil {
		return err
	}
	i.Limits.RequestsMinute, i.Limits.ChecksMinute, i.Limits.Imports, i.Limits.Exports, i.Limits.Streams = 60_000, 60_000, loadImports, loadExports, loadStreams
	_, err = in.api.SetInstallation(ctx, i.InstallationSettings)
	return err
}

// tellLoad prints how long everything took, and returns how much failed.
func tellLoad(by map[string]*tried) (failed int) {
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "%v of %d readers, %d event streams, %d imports, %d exports\tfailed\tdone\tp50\tp95\tp99\t\n", loadFor, loadReaders, loadStreams, loadImports, loadExports)
	for _, k := range loadKinds {
		one := by[k]
		one.sort()
		errors := 0
		for why, n := range one.errors {
			fmt.Fprintf(os.Stderr, "%s: %d times: %s\n", k, n, why)
			errors += n
		}
		failed += errors
		fmt.Fprintf(t, "%s\t%d\t%s\n", k, errors, one.figures())
	}
	_ = t.Flush()
	return failed
}

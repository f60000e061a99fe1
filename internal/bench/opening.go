package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"slices"
	"text/tabwriter"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/profiler"
	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

// slowed is how many times slower than this machine the processor is on which pages are
// opened, and opened is how often each is.
const (
	slowed = 4
	opened = 5
)

// largest is when the largest part of the page was painted (Largest Contentful Paint), in
// milliseconds after it was gone to.
const largest = `new Promise(done => new PerformanceObserver(l => done(l.getEntries().at(-1).startTime)).observe({type: "largest-contentful-paint", buffered: true}))`

// small imports a list of the size of the demo's, and runs it.
func (in *installation) small(w *practice.World) (r contract.Run, err error) {
	var list bytes.Buffer
	if err = w.WriteList(&list, 1200); err != nil {
		return r, err
	}
	ctx := context.Background()
	l, err := in.api.Import(ctx, client.File{Name: "members.csv", Body: &list})
	if err == nil {
		r, err = in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	}
	if err == nil {
		r, err = in.api.Wait(ctx, r.ID, func(contract.Run) {})
	}
	return r, err
}

// pageTimes opens pages with nothing kept from before, on a slowed processor, and tells how
// long it takes until their content is there and how much script they load in vain.
func pageTimes(tab context.Context, url string, run contract.Run) ([]bar, error) {
	of := func(page string) string { return fmt.Sprintf(page, run.ID) }
	w := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(w, "page, processor %d times slower, nothing kept\tlargest paint, median\tmost\tscript\tof it unused\t\n", slowed)
	var medians []float64
	var unusedFirst float64
	for _, page := range []string{"/lists", fmt.Sprintf("/lists/%d", run.ListID), of("/runs/%d"), of("/runs/%d/results"), of("/runs/%d/domains"), of("/runs/%d/export"), "/check", "/policies", "/setup", "/outbound", "/catalogues", "/glossary"} {
		var times []float64
		var loaded, unused float64
		for range opened {
			var at float64
			err := browser.Do(tab, time.Minute, network.SetCacheDisabled(true), emulation.SetCPUThrottlingRate(slowed), profiler.Enable(),
				chromedp.ActionFunc(func(ctx context.Context) error {
					_, err := profiler.StartPreciseCoverage().WithCallCount(false).WithDetailed(true).Do(ctx)
					return err
				}),
				chromedp.Navigate(url+page), browser.Wait(`document.querySelector("main h1") && !document.querySelector("main .wait")`), chromedp.Sleep(600*time.Millisecond),
				chromedp.Evaluate(largest, &at, browser.Awaited),
				chromedp.ActionFunc(func(ctx context.Context) (err error) {
					loaded, unused, err = coverage(ctx)
					return err
				}))
			if err != nil {
				return nil, fmt.Errorf("%s: %w", page, err)
			}
			times = append(times, at)
		}
		slices.Sort(times)
		medians = append(medians, times[opened/2])
		if page == "/lists" {
			unusedFirst = unused
		}
		fmt.Fprintf(w, "%s\t%.0f ms\t%.0f ms\t%.0f KB\t%.0f KB\t\n", page, times[opened/2], times[opened-1], loaded/1024, unused/1024)
	}
	if err := w.Flush(); err != nil {
		return nil, err
	}
	slices.Sort(medians)
	fmt.Printf("script that the first page loads and does not use: %.0f KB\n", unusedFirst/1024)
	return []bar{{what: "largest paint, median over the pages", figure: medians[len(medians)/2], unit: "ms", bar: 1500, atMost: true}}, nil
}

// coverage returns how many characters of script a page has loaded, and how many of them
// were not run.
func coverage(ctx context.Context) (loaded, unused float64, err error) {
	scripts, _, err := profiler.TakePreciseCoverage().Do(ctx)
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = profiler.StopPreciseCoverage().Do(ctx) }()
	for _, s := range scripts {
		if len(s.URL) < 4 || s.URL[:4] != "http" || len(s.Functions) == 0 {
			continue
		}
		end := int64(0)
		for _, f := range s.Functions {
			for _, r := range f.Ranges {
				end = max(end, r.EndOffset)
			}
		}
		// Inner ranges go before outer ones: the last that covers a place counts.
		ran := make([]bool, end)
		for _, f := range s.Functions {
			for _, r := range f.Ranges {
				for i := r.StartOffset; i < r.EndOffset; i++ {
					ran[i] = r.Count > 0
				}
			}
		}
		loaded += float64(end)
		for _, yes := range ran {
			if !yes {
				unused++
			}
		}
	}
	return loaded, unused, nil
}

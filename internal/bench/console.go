package main

import (
	"context"
	"fmt"
	"time"

	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
	"varnet/internal/contract"
	"varnet/internal/practice"
)

// watchedRows is how many rows the run has that is watched.
const watchedRows = 100_000

// watch notes the tasks of the page that take longer than 50 ms, as browsers tell
// them (Long Tasks API), and the longest time without a picture.
const watch = `window.seen = {tasks: [], gap: 0, changes: 0};
new PerformanceObserver(l => l.getEntries().forEach(e => seen.tasks.push(e.duration))).observe({entryTypes: ["longtask"]});
new MutationObserver(() => seen.changes++).observe(document.body, {subtree: true, childList: true, characterData: true, attributes: true});
(function frame(last) { requestAnimationFrame(now => { seen.gap = Math.max(seen.gap, now - last); frame(now); }); })(performance.now());`

// console watches a run of 100,000 rows live, and tells how long the page was busy at a
// stretch; then how long the pages take to open on a slow processor.
func console() error {
	w, err := practice.Load("fernhollow")
	if err == nil {
		w, err = w.Everywhere("far")
	}
	if err != nil {
		return err
	}
	in, err := install(w, 2709, "VARNET_ROUNDS=1s")
	if err != nil {
		return err
	}
	defer in.stop()
	run, err := in.far(w, watchedRows)
	if err != nil {
		return err
	}
	tab, stop, err := browser.Start(context.Background(), browser.Options{Width: 1280, Height: 800})
	if err != nil {
		return err
	}
	defer stop()
	if err := browser.Do(tab, 30*time.Second, browser.SignIn(in.url), chromedp.Navigate(fmt.Sprintf("%s/runs/%d", in.url, run.ID)),
		browser.Text("In the last minute"), chromedp.Sleep(2*time.Second), chromedp.Evaluate(watch, nil)); err != nil {
		return err
	}
	start := time.Now()
	if _, err := in.api.Wait(context.Background(), run.ID, func(contract.Run) {}); err != nil {
		return err
	}
	if err := browser.Do(tab, 10*time.Second, browser.Text(": finished")); err != nil {
		return err
	}
	var seen struct {
		Tasks   []float64
		Gap     float64
		Changes int
	}
	if err := browser.Do(tab, 5*time.Second, chromedp.Evaluate("seen", &seen)); err != nil {
		return err
	}
	long, longest := 0, 0.0
	for _, t := range seen.Tasks {
		longest = max(longest, t)
		if t > 200 {
			long++
		}
	}
	fmt.Printf("A run of %d rows was watched for %.0f s; the page changed %d times. Of %d tasks over 50 ms the longest took %.0f ms; the longest time without a picture was %.0f ms.\n",
		watchedRows, time.Since(start).Seconds(), seen.Changes, len(seen.Tasks), longest, seen.Gap)
	small, err := in.small(w)
	if err != nil {
		return err
	}
	pages, err := pageTimes(tab, in.url, small)
	if err != nil {
		return err
	}
	return judge(append(pages, bar{what: "tasks of the page over 200 ms", figure: float64(long), bar: 0, atMost: true}))
}

// far brings addresses in that are all different, and starts a run of them.
func (in *installation) far(w *practice.World, rows int) (contract.Run, error) {
	ctx := context.Background()
	l, err := in.bring(ctx, addressesOf(w, rows))
	if err != nil {
		return contract.Run{}, err
	}
	return in.api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
}

package main

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
	"varnet/internal/steal"
)

// contentAt notes when the main content of a page was there: its heading, and nothing that is
// waited for.
const contentAt = `new MutationObserver(() => {
	const there = document.querySelector("main h1, .door h1, h1") && !document.querySelector("main .wait");
	if (!there) window.contentAt = undefined;
	else window.contentAt ??= performance.now();
}).observe(document, {subtree: true, childList: true, characterData: true});`

// measured is what a page loads, in bytes as they are on the line, and when its content is there.
type measured struct {
	At       float64
	Requests int
	Bytes    float64
}

const measuring = `(() => {
	const all = [...performance.getEntriesByType("navigation"), ...performance.getEntriesByType("resource")];
	return {At: window.contentAt ?? -1, Requests: all.length, Bytes: all.reduce((sum, e) => sum + e.transferSize, 0)};
})()`

// Each page is gone to visits times, with nothing kept and with what the browser keeps, in moments in which the host
// of a virtual machine gives nothing to others, where mostVisits brings as many.
const (
	visits     = 3
	mostVisits = 8
)

// speed goes to every page, and tells what it loads and how long it takes until its main content is
// there: with nothing kept from before, and as whoever works with the console goes to it.
func (t *tour) speed() error {
	if err := browser.Do(t.tab, 20*time.Second, chromedp.ActionFunc(func(ctx context.Context) error {
		_, err := page.AddScriptToEvaluateOnNewDocument(contentAt).Do(ctx)
		return err
	})); err != nil {
		return err
	}
	watch := steal.Begin()
	defer watch.End()
	restless := 0
	fmt.Printf("%32s%6s%10s%22s%10s%22s%9s\n", "page, nothing kept", "KB", "requests", "ms until its content", "kept: KB", "ms until its content", "at most")
	var middles [2][]float64
	for _, p := range pages {
		if t.only != "" && p.name != t.only {
			continue
		}
		first, times, calm, err := t.visit(p, true, watch)
		if err != nil {
			return err
		}
		again, timesAgain, calmAgain, err := t.visit(p, false, watch)
		if err != nil {
			return err
		}
		name := p.name
		if !calm || !calmAgain {
			name += " *"
			restless++
		}
		middles = [2][]float64{append(middles[0], times[len(times)/2]), append(middles[1], timesAgain[len(timesAgain)/2])}
		fmt.Printf("%32s%6.0f%10d%22.0f%10.0f%22.0f%9.0f\n", name, first.Bytes/1000, first.Requests, times[len(times)/2], again.Bytes/1000, timesAgain[len(timesAgain)/2], timesAgain[len(timesAgain)-1])
	}
	if len(middles[0]) == 0 {
		return fmt.Errorf("there is no page called %s", t.only)
	}
	if restless > 0 {
		fmt.Printf("* %d pages: there were not %d calm moments, so all visits count, also those in which the host gave the processors to others\n", restless, visits)
	}
	for i, kept := range []string{"nothing kept", "with what is kept"} {
		slices.Sort(middles[i])
		fmt.Printf("%s: the content of the middle one of %d pages is there after %.0f ms, of the slowest after %.0f ms\n", kept, len(middles[i]), middles[i][len(middles[i])/2], middles[i][len(middles[i])-1])
	}
	return nil
}

// visit goes to a page several times, and returns what it loads and the times until its content is
// there, the shortest first: those of calm moments, if there were enough.
func (t *tour) visit(p visited, fresh bool, watch *steal.Watch) (m measured, times []float64, calm bool, err error) {
	var all []float64
	for len(times) < visits && len(all) < mostVisits {
		begun := time.Now()
		err := browser.Do(t.tab, 30*time.Second, network.SetCacheDisabled(fresh), t.open(p.of("1")), browser.Wait("window.contentAt !== undefined"), chromedp.Sleep(time.Second), chromedp.Evaluate(measuring, &m))
		if err != nil {
			return m, nil, false, fmt.Errorf("%s: %w", p.name, err)
		}
		all = append(all, m.At)
		if watch.Calm(begun) {
			times = append(times, m.At)
		}
	}
	if calm = len(times) == visits; !calm {
		times = all
	}
	slices.Sort(times)
	return m, times, calm, nil
}

package main

import (
	"context"
	"fmt"
	"os"
	"slices"
	"text/tabwriter"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
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

// visits is how often each page is gone to, with nothing kept and with what the browser keeps.
const visits = 3

// speed goes to every page, and tells what it loads and how long it takes until its main content is
// there: with nothing kept from before, and as whoever works with the console goes to it.
func (t *tour) speed() error {
	if err := browser.Do(t.tab, 20*time.Second, chromedp.ActionFunc(func(ctx context.Context) error {
		_, err := page.AddScriptToEvaluateOnNewDocument(contentAt).Do(ctx)
		return err
	})); err != nil {
		return err
	}
	w := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "page, nothing kept\tKB\trequests\tms until its content\tkept: KB\tms until its content\tat most\t")
	var middles [2][]float64
	for _, p := range pages {
		if t.only != "" && p.name != t.only {
			continue
		}
		first, times, err := t.visit(p, true)
		if err != nil {
			return err
		}
		again, timesAgain, err := t.visit(p, false)
		if err != nil {
			return err
		}
		middles = [2][]float64{append(middles[0], times[visits/2]), append(middles[1], timesAgain[visits/2])}
		fmt.Fprintf(w, "%s\t%.0f\t%d\t%.0f\t%.0f\t%.0f\t%.0f\t\n", p.name, first.Bytes/1000, first.Requests, times[visits/2], again.Bytes/1000, timesAgain[visits/2], timesAgain[visits-1])
	}
	if err := w.Flush(); err != nil {
		return err
	}
	if len(middles[0]) == 0 {
		return fmt.Errorf("there is no page called %s", t.only)
	}
	for i, kept := range []string{"nothing kept", "with what is kept"} {
		slices.Sort(middles[i])
		fmt.Printf("%s: the content of the middle one of %d pages is there after %.0f ms, of the slowest after %.0f ms\n", kept, len(middles[i]), middles[i][len(middles[i])/2], middles[i][len(middles[i])-1])
	}
	return nil
}

// visit goes to a page several times, and returns what it loads and the times until its content is
// there, the shortest first.
func (t *tour) visit(p visited, fresh bool) (m measured, times []float64, err error) {
	for range visits {
		err := browser.Do(t.tab, 30*time.Second, network.SetCacheDisabled(fresh), t.open(p.of("1")), browser.Wait("window.contentAt !== undefined"), chromedp.Sleep(700*time.Millisecond), chromedp.Evaluate(measuring, &m))
		if err != nil {
			return m, nil, fmt.Errorf("%s: %w", p.name, err)
		}
		times = append(times, m.At)
	}
	slices.Sort(times)
	return m, times, nil
}

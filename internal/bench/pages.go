package main

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"slices"
	"text/tabwriter"
	"time"

	"varnet/internal/contract"
)

// looks is how often a page is asked for, each time after another address.
const looks = 40

// pages asks for result pages of a run by every filter that is offered, at
// places all over the list, and returns the 50th and 95th of 100 times; and so of
// the counts that follow a filter, and of the operators, which have no bar.
func (in *installation) pages(run contract.Run) ([]bar, error) {
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "result pages of 100, of %d addresses\tp50\tp95\t\n", run.Addresses)
	var bars []bar
	for _, f := range filters {
		p95, err := timed(t, f.what, func(i int) error { return in.page(run, f, i) })
		if err != nil {
			return nil, err
		}
		bars = append(bars, bar{what: "p95 of a page by " + f.what, figure: p95, bar: 150, atMost: true, unit: " ms"})
	}
	for _, f := range filters {
		if _, err := timed(t, "counts: "+f.what, func(int) error {
			_, err := in.api.Matching(context.Background(), run.ID, f.query)
			return err
		}); err != nil {
			return nil, err
		}
	}
	if _, err := timed(t, "operators", func(int) error {
		_, err := in.api.RunOperators(context.Background(), run.ID, nil)
		return err
	}); err != nil {
		return nil, err
	}
	return bars, t.Flush()
}

// page asks for the result page of one of so many looks.
func (in *installation) page(run contract.Run, f filter, look int) error {
	q := url.Values{"limit": {"100"}, "cursor": {contract.CursorOf(run.Addresses * int64(look) / looks)}}
	maps.Copy(q, f.query)
	_, err := in.api.Results(context.Background(), run.ID, q)
	return err
}

// filter is one by which results are looked at.
type filter struct {
	what  string
	query url.Values
}

// readsTexts reports whether the list's texts are read for it, which takes the longer the longer the
// list is.
func (f filter) readsTexts() bool { return f.query.Has("search") }

var filters = []filter{
	{"no filter", url.Values{}}, {"finding", url.Values{"finding": {"undeliverable"}}}, {"cause", url.Values{"cause": {"mailbox.absent"}}},
	{"a rare cause", url.Values{"cause": {"syntax.malformed"}}}, {"stage", url.Values{"stage": {"domain"}}}, {"trait", url.Values{"trait": {"role"}}},
	{"decision", url.Values{"decision": {"hold"}}}, {"a large domain", url.Values{"domain": {"postbarn.example"}}},
	{"a small domain", url.Values{"domain": {"honeybed.example"}}}, {"operator", url.Values{"operator": {"fernhollow.example"}}},
	{"search, frequent", url.Values{"search": {"mossman"}}}, {"search, rare", url.Values{"search": {"ada.mossman4711"}}},
	{"search, nothing", url.Values{"search": {"no such text"}}},
}

// timed asks for something several times, writes how long it took into the
// table and returns the 95th of 100 times in milliseconds.
func timed(t io.Writer, what string, ask func(i int) error) (p95 float64, err error) {
	took := make([]time.Duration, looks)
	for i := range looks {
		start := time.Now()
		if err := ask(i); err != nil {
			return 0, fmt.Errorf("%s: %w", what, err)
		}
		took[i] = time.Since(start)
	}
	slices.Sort(took)
	p95 = ms(took[looks*95/100])
	fmt.Fprintf(t, "%s\t%.1f ms\t%.1f ms\t\n", what, ms(took[looks/2]), p95)
	return p95, nil
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

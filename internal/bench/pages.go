package main

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strconv"
	"text/tabwriter"
	"time"

	"varnet/internal/contract"
)

// looks is how often a page is asked for, each time after another address.
const looks = 40

// pages asks for result pages of a run by every filter that is offered, at
// places all over the list, and gives the 50th and 95th of 100 times.
func (in *installation) pages(run contract.Run) ([]bar, error) {
	t := tabwriter.NewWriter(os.Stdout, 0, 8, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(t, "result pages of 100, of %d addresses\tp50\tp95\t\n", run.Addresses)
	var bars []bar
	for _, f := range []struct {
		what   string
		filter url.Values
	}{
		{"no filter", url.Values{}}, {"finding", url.Values{"finding": {"undeliverable"}}}, {"cause", url.Values{"cause": {"mailbox.absent"}}},
		{"a rare cause", url.Values{"cause": {"syntax.malformed"}}}, {"stage", url.Values{"stage": {"domain"}}}, {"trait", url.Values{"trait": {"role"}}},
		{"decision", url.Values{"decision": {"hold"}}}, {"a large domain", url.Values{"domain": {"postbarn.example"}}},
		{"a small domain", url.Values{"domain": {"honeybed.example"}}}, {"operator", url.Values{"operator": {"fernhollow.example"}}},
		{"search, frequent", url.Values{"search": {"mossman"}}}, {"search, rare", url.Values{"search": {"ada.mossman4711"}}},
		{"search, nothing", url.Values{"search": {"no such text"}}},
	} {
		took := make([]time.Duration, looks)
		for i := range looks {
			q := url.Values{"limit": {"100"}, "after": {strconv.FormatInt(run.Addresses*int64(i)/looks, 10)}}
			for name, value := range f.filter {
				q[name] = value
			}
			start := time.Now()
			if _, err := in.api.Results(context.Background(), run.ID, q); err != nil {
				return nil, fmt.Errorf("%s: %w", f.what, err)
			}
			took[i] = time.Since(start)
		}
		slices.Sort(took)
		p50, p95 := took[looks/2], took[looks*95/100]
		fmt.Fprintf(t, "%s\t%.1f ms\t%.1f ms\t\n", f.what, ms(p50), ms(p95))
		bars = append(bars, bar{what: "p95 of a page by " + f.what, figure: ms(p95), bar: 150, atMost: true, unit: " ms"})
	}
	return bars, t.Flush()
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

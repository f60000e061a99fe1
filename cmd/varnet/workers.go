package main

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"varnet/core/say"
	"varnet/internal/client"
	"varnet/internal/contract"
)

func workersCommand() command {
	return command{"workers", "", "shows the processes that work on runs", "varnet workers", showWorkers, []command{
		{"drain", "ID", "lets a worker finish what it has in hand, and end", "varnet workers drain oak-4711", drainWorker, nil},
	}}
}

func showWorkers(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.Page[contract.Worker], error) {
		return whole(api.Workers(ctx))
	}, table[contract.Worker]{"No worker is running.", "worker\tversion\tserves\tlocation\tlanes at work\tsessions by route\tlast heartbeat", func(w io.Writer, k contract.Worker) {
		serves, state := "no", ""
		if k.Serves {
			serves = "yes"
		}
		if k.Draining {
			state = ", draining"
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%d of %d\t%s\t%d s ago%s\n", printable(k.ID), printable(k.Version), serves, cmp.Or(k.Location, "-"), k.Parcels, k.Lanes, sessionsBy(k.Routes),
			int(time.Since(k.SeenAt).Seconds()), state)
	}}.of(c))
}

func drainWorker(c *cli) action {
	return do(c, func(ctx context.Context, api *client.Client) error { return api.DrainWorker(ctx, c.args[0]) })
}

// sessionsBy says how many sessions went by each route.
func sessionsBy(routes map[string]int64) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(routes)) {
		out = append(out, fmt.Sprintf("%s %s", printable(name), say.Number(routes[name])))
	}
	return cmp.Or(strings.Join(out, ", "), "none yet")
}

func healthCommand() command {
	return command{"health", "", "shows what waits to be worked, and what keeps failing", "varnet health", showHealth, nil}
}

func showHealth(c *cli) action {
	return ask(c, func(ctx context.Context, api *client.Client) (contract.ServiceHealth, error) { return api.Health(ctx) }, c.tellHealth)
}

func (c *cli) tellHealth(h contract.ServiceHealth) error {
	if err := c.sentence(h.Sentence); err != nil {
		return err
	}
	for _, f := range h.Failing {
		line := fmt.Sprintf("%s (%s) has been failing since %s, after %s; the last error: %s", f.Does, cmp.Or(f.At, say.Plural(f.Jobs, "job fails", "jobs fail")), f.Since.Local().Format("2 January, 15:04"), say.Plural(int64(f.Attempts), "attempt", "attempts"), f.Said)
		if err := c.sentence(say.Sentence(printable(line))); err != nil {
			return err
		}
	}
	return table[contract.Queued]{"Nothing is waiting.", "waiting\tparcels\taddresses", func(w io.Writer, q contract.Queued) {
		fmt.Fprintf(w, "%s\t%s\t%s\n", q.Kind, say.Number(q.Parcels), say.Number(q.Addresses))
	}}.of(c)(contract.Page[contract.Queued]{Items: h.Queue})
}

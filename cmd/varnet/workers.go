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

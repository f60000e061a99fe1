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
	"varnet/internal/contract"
)

func workersCommand(ctx context.Context, c *cli, args []string) error {
	connect := c.connect()
	asJSON := c.flags.Bool("json", false, "a JSON object a line")
	rest, err := c.parse(args)
	if err != nil {
		return err
	}
	switch {
	case len(rest) == 2 && rest[0] == "drain":
		return connect().DrainWorker(ctx, rest[1])
	case len(rest) > 0:
		return c.wrongUse("say: varnet workers, or: varnet workers drain ID")
	}
	found, err := connect().Workers(ctx)
	if err != nil {
		return err
	}
	return listing[contract.Worker]{*asJSON, "No worker gives a sign of life.", "worker\tversion\tserves\tlanes at work\tsessions by route\tlast sign of life", func(w io.Writer, k contract.Worker) {
		serves, state := "no", ""
		if k.Serves {
			serves = "yes"
		}
		if k.Draining {
			state = ", draining"
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%d s ago%s\n", printable(k.ID), printable(k.Version), serves, fmt.Sprintf("%d of %d", k.Parcels, k.Lanes), sessionsBy(k.Routes), int(time.Since(k.SeenAt).Seconds()), state)
	}}.show(c.out, found)
}

// sessionsBy says how many sessions went by each route.
func sessionsBy(routes map[string]int64) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(routes)) {
		out = append(out, fmt.Sprintf("%s %s", printable(name), say.Number(routes[name])))
	}
	return cmp.Or(strings.Join(out, ", "), "none yet")
}

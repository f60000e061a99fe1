package main

import (
	"bufio"
	"context"
	"fmt"
	"time"

	"varnet/internal/practice"
)

func practiceCommand(ctx context.Context, c *cli, args []string) error {
	world := c.flags.String("world", "fernhollow", "a world that ships with Varnet, or a world file")
	list := c.flags.Int("list", 0, "write a list of so many made-up people to standard output, and nothing else")
	dns := c.flags.String("dns", "127.0.0.1:2553", "where the name server listens")
	port := c.flags.Int("port", 2525, "the port of the mail hosts, each on its own loopback address")
	life := c.flags.Duration("for", 24*time.Hour, "how long to run at the most")
	if _, err := c.parse(args); err != nil {
		return err
	}
	w, err := practice.Load(*world)
	if err != nil {
		return err
	}
	if *list > 0 {
		out := bufio.NewWriter(c.out)
		if err := w.WriteList(out, *list); err != nil {
			return err
		}
		return out.Flush()
	}
	i, err := practice.Start(w, *dns, *port)
	if err != nil {
		return err
	}
	defer i.Close()
	if err := i.StartStandIns(); err != nil {
		return err
	}
	fmt.Fprintf(c.out, "The practice internet %q runs: name server at %s, %d mail hosts on port %d.\n"+
		"A service for it: varnet serve -resolvers %s -smtp-port %d -allow-private yes\n",
		w.Name, i.DNS, len(i.Hosts()), i.Port, i.DNS, i.Port)
	ctx, cancel := context.WithTimeout(ctx, *life)
	defer cancel()
	<-ctx.Done()
	return nil
}

package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"strconv"

	"varnet/internal/relay"
)

func relayCommand() command {
	return command{"relay", "", "runs a relay: a way out for the service, on a host that has port 25", "varnet relay -listen 0.0.0.0:2526 -state /var/lib/varnet-relay", runRelay, []command{
		{"route", "", "shows the line by which a relay is added as a route; it holds its token", "varnet relay route -state /var/lib/varnet-relay -listen relay.fernhollow.example:2526", relayRoute, nil},
		{"rotate", "", "gives a relay another token; the one before works until the next rotation", "varnet relay rotate -state /var/lib/varnet-relay", relayRotate, nil},
	}}
}

// relayState is the setting that every relay command has.
func (c *cli) relayState() *string {
	return c.setting("state", "VARNET_RELAY_STATE", "varnet-relay", "the folder for its token and certificate")
}

// relayListen is where a relay is reached.
func (c *cli) relayListen() *string {
	return c.setting("listen", "VARNET_RELAY_LISTEN", "0.0.0.0:2526", "where the service reaches it")
}

// showRoute prints the line to add as a route.
func showRoute(c *cli, kept relay.State, at string) {
	fmt.Fprintf(c.out, "relay://%s@%s?certificate=%s\n", kept.Tokens[0], reachedAt(at), relay.Fingerprint(kept.Certificate))
}

func relayRoute(c *cli) action {
	listen, state := c.relayListen(), c.relayState()
	return func(context.Context) error {
		kept, err := relay.Keep(*state)
		if err == nil {
			showRoute(c, kept, *listen)
		}
		return err
	}
}

func relayRotate(c *cli) action {
	listen, state := c.relayListen(), c.relayState()
	return func(context.Context) error {
		if err := relay.Rotate(*state); err != nil {
			return err
		}
		kept, err := relay.Keep(*state)
		if err == nil {
			fmt.Fprintln(c.err, "The relay has another token. Put this line in the place of its route; the token before it works until the next rotation.")
			showRoute(c, kept, *listen)
		}
		return err
	}
}

func runRelay(c *cli) action {
	listen, state := c.relayListen(), c.relayState()
	ports := c.setting("ports", "VARNET_RELAY_PORTS", "25", "the ports of mail hosts it goes to, with commas between")
	private := c.setting("allow-private", "VARNET_ALLOW_PRIVATE", "no", "yes: go to private and loopback addresses too")
	limit := c.flags.Int("limit", 200, "how many connections may be open at once")
	return func(ctx context.Context) error {
		r := &relay.Relay{Limit: *limit, Log: slog.New(slog.NewTextHandler(c.err, nil))}
		var err error
		if r.AllowPrivate, err = c.yes("allow-private", *private); err != nil {
			return err
		}
		for _, p := range fields(*ports) {
			n, err := strconv.ParseUint(p, 10, 16)
			if err != nil || n == 0 {
				return c.wrongUse(fmt.Sprintf("-ports are numbers from 1 to 65535, not %q", p))
			}
			r.Ports = append(r.Ports, uint16(n))
		}
		kept, err := relay.Keep(*state)
		if err != nil {
			return err
		}
		r.Tokens = func() ([]string, error) { return relay.Tokens(*state) }
		l, err := net.Listen("tcp", *listen)
		if err != nil {
			return fmt.Errorf("cannot listen on %s: %w; choose another port with -listen", *listen, unwrapOp(err))
		}
		at := l.Addr().String()
		if kept.Fresh && onTerminal(c.err) { // elsewhere it would stay in a log
			fmt.Fprintf(c.err, "The relay listens on %s. Add it as a route; the line holds its token, so keep it to yourself:\n", at)
			showRoute(c, kept, at)
		} else {
			fmt.Fprintf(c.err, "The relay listens on %s. \"varnet relay route\" shows the line by which it is added as a route.\n", at)
		}
		return r.Serve(ctx, l, kept.Certificate)
	}
}

// reachedAt is where the service reaches what listens at an address, as far as that is known
// here.
func reachedAt(at string) string {
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return at
	}
	if ip := net.ParseIP(host); host == "" || ip != nil && ip.IsUnspecified() {
		host = "THIS-HOST"
	}
	return net.JoinHostPort(host, port)
}

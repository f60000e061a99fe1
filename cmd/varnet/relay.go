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
	return command{"relay", "", "runs a relay: a way out for the service, on a host that has port 25", "varnet relay -listen 0.0.0.0:2526 -state /var/lib/varnet-relay", runRelay, nil}
}

func runRelay(c *cli) action {
	listen := c.setting("listen", "VARNET_RELAY_LISTEN", "0.0.0.0:2526", "where the service reaches it")
	state := c.setting("state", "VARNET_RELAY_STATE", "varnet-relay", "the folder for its token and certificate; made if there is none")
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
		r.Token = kept.Token
		l, err := net.Listen("tcp", *listen)
		if err != nil {
			return fmt.Errorf("cannot listen on %s: %w; choose another port with -listen", *listen, unwrapOp(err))
		}
		fmt.Fprintf(c.out, "The relay listens on %s. Add it as a route; the line holds its token, so keep it to yourself:\n  relay://%s@%s?certificate=%s\n",
			l.Addr(), r.Token, reachedAt(l), relay.Fingerprint(kept.Certificate))
		return r.Serve(ctx, l, kept.Certificate)
	}
}

// reachedAt is where the service reaches a listener, as far as that is known here.
func reachedAt(l net.Listener) string {
	host, port, _ := net.SplitHostPort(l.Addr().String())
	if ip := net.ParseIP(host); ip == nil || ip.IsUnspecified() {
		host = "THIS-HOST"
	}
	return net.JoinHostPort(host, port)
}

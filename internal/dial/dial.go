// Package dial opens connections to mail hosts by a route: directly, through a
// SOCKS5 or HTTP CONNECT proxy, or through a relay of ours. What fails at the
// route itself comes back as a *route.Failure, and is never blamed on a host.
package dial

import (
	"context"
	"fmt"
	"net"
	"net/netip"

	"golang.org/x/net/proxy"

	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/route"
)

// By returns the dialer of a route. Unless private addresses are allowed it
// connects to no exchanger that no host of the public Internet can be.
func By(r route.Route, allowPrivate bool) probe.Dialer {
	direct := probe.DirectDialer(allowPrivate)
	if r.Local.IsValid() {
		direct.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(r.Local, 0))
	}
	var way probe.Dialer
	switch r.Kind {
	case route.SOCKS5:
		way = socks{r}
	case route.Connect:
		way = connect{r}
	case route.Relay:
		way = relay{r}
	default:
		return direct
	}
	return guarded{way, allowPrivate}
}

// guarded refuses what may not be contacted before a proxy is asked for it.
type guarded struct {
	way          probe.Dialer
	allowPrivate bool
}

func (g guarded) DialContext(ctx context.Context, network, addr string) (net.Conn, error) {
	to, err := netip.ParseAddrPort(addr)
	if err != nil || !g.allowPrivate && !resolve.Public(to.Addr()) {
		return nil, fmt.Errorf("%s is not a public address and is not contacted", addr)
	}
	return g.way.DialContext(ctx, network, addr)
}

// toHost opens a connection to the proxy or relay itself.
type toHost struct{ r route.Route }

func (h toHost) Dial(network, addr string) (net.Conn, error) {
	return h.DialContext(context.Background(), network, addr)
}

func (h toHost) DialContext(ctx context.Context, network, addr string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, network, addr)
	if err != nil {
		return nil, failed("Look whether it runs and whether the address is right, or remove it.", "%s cannot be reached: %v.", h.r, last(err))
	}
	return conn, nil
}

func failed(do, format string, args ...any) *route.Failure {
	return &route.Failure{Says: fmt.Sprintf(format, args...), Do: do}
}

// last takes the operation and addresses off a network error.
func last(err error) error {
	if op, ok := err.(*net.OpError); ok {
		return op.Err
	}
	return err
}

func wantsSignIn(r route.Route) string {
	return fmt.Sprintf("Add it again with the right user and password, as in %s://user:password@%s.", r.Kind, r.Host)
}

type socks struct{ r route.Route }

func (s socks) DialContext(ctx context.Context, network, addr string) (net.Conn, error) {
	var auth *proxy.Auth
	if s.r.User != "" {
		auth = &proxy.Auth{User: s.r.User, Password: s.r.Secret}
	}
	d, err := proxy.SOCKS5("tcp", s.r.Host, auth, toHost(s))
	if err != nil {
		return nil, err
	}
	conn, err := d.(proxy.ContextDialer).DialContext(ctx, network, addr)
	if err != nil {
		return nil, s.read(ctx, err)
	}
	return conn, nil
}

// read tells failures of the proxy from failures that it reports of the host
// (RFC 1928 section 6).
func (s socks) read(ctx context.Context, err error) error {
	says := last(err).Error()
	if f, ok := last(err).(*route.Failure); ok {
		return f
	}
	switch says {
	case "unknown error host unreachable", "unknown error network unreachable", "unknown error connection refused",
		"unknown error TTL expired", "unknown error general SOCKS server failure": // which many send for an unreachable host
		return fmt.Errorf("the proxy says: %s", says[len("unknown error "):])
	case "no acceptable authentication methods":
		return failed(wantsSignIn(s.r), "%s needs another kind of sign-in than it was given.", s.r)
	case "username/password authentication failed", "invalid username/password":
		return failed(wantsSignIn(s.r), "%s does not take the user and password.", s.r)
	case "unknown error connection not allowed by ruleset":
		return failed("Ask whoever runs it to allow it, or remove it.", "%s does not allow connections to mail hosts.", s.r)
	}
	if ctx.Err() != nil {
		return err
	}
	return failed("Look whether it is a SOCKS5 proxy and is well, or remove it.", "%s does not do its work: %s.", s.r, says)
}

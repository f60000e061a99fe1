package probe

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"

	"varnet/core/resolve"
)

// ErrPrivate tells that an address is not contacted, since it is not a public one.
var ErrPrivate = errors.New("is not a public address and is not contacted")

// DirectDialer returns a dialer straight from this host. Unless private
// addresses are allowed it refuses to connect to any address that no host of
// the public Internet can have, whoever named it.
func DirectDialer(allowPrivate bool) *net.Dialer {
	d := &net.Dialer{KeepAlive: -1} // a session is over in less time than it takes to wonder
	if !allowPrivate {
		d.Control = func(_, addr string, _ syscall.RawConn) error {
			to, err := netip.ParseAddrPort(addr)
			if err != nil || !resolve.Public(to.Addr()) {
				return fmt.Errorf("%s %w", addr, ErrPrivate)
			}
			return nil
		}
	}
	return d
}

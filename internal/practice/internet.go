package practice

import (
	"errors"
	"net/netip"
	"syscall"
)

// Internet is a world that runs: its name server and its mail hosts.
type Internet struct {
	World *World
	// DNS is the name server's address, host:port, for UDP and TCP.
	DNS string
	// Port is the port of every mail host.
	Port int

	names   *nameServer
	zone    *zone
	hosts   []*Host
	blocked blocked
	closers []func() // of the stand-ins
}

// Start runs the world: its name server on dns (host:port) and its mail hosts on the given
// port of their own loopback addresses; port 0 is a free one.
func Start(w *World, dns string, port int) (i *Internet, err error) {
	if port != 0 {
		return start(w, dns, port)
	}
	for range 5 { // somebody else may take it meanwhile
		if port, err = FreePort(); err != nil {
			return nil, err
		}
		if i, err = start(w, dns, port); !errors.Is(err, syscall.EADDRINUSE) {
			break
		}
	}
	return i, err
}

func start(w *World, dns string, port int) (_ *Internet, err error) {
	i := &Internet{World: w, Port: port}
	for _, ip := range w.Outbound.Blocked {
		i.Block(ip)
	}
	i.zone = newZone(w)
	i.zone.blocklist, i.zone.blocked = w.Outbound.Blocklist, &i.blocked
	if i.names, i.DNS, err = serveDNS(i.zone, dns); err != nil {
		return nil, err
	}
	for n := range w.Operators {
		if err := i.startOperator(&w.Operators[n]); err != nil {
			i.Close()
			return nil, err
		}
	}
	return i, nil
}

func (i *Internet) startOperator(o *Operator) error {
	first := newHost("mx1."+o.Name, o.host(1), i.World, o.character)
	if o.character.IPv6 {
		first.Addr = netip.IPv6Loopback()
	}
	hosts := []*Host{first}
	if second := characters[o.character.Second]; second != nil {
		hosts = append(hosts, newHost("mx2."+o.Name, o.host(2), i.World, second))
	}
	for _, h := range hosts {
		h.blocked = &i.blocked
		if err := h.listen(i.Port); err != nil {
			return err
		}
		i.hosts = append(i.hosts, h)
	}
	return nil
}

// Silence stops the name server; Speak starts it again where it was.
func (i *Internet) Silence() { i.names.close() }

// Speak starts the name server again.
func (i *Internet) Speak() (err error) {
	i.names, _, err = serveDNS(i.zone, i.DNS)
	return err
}

// Hosts lists the mail hosts.
func (i *Internet) Hosts() []*Host { return i.hosts }

// Close stops everything.
func (i *Internet) Close() {
	i.names.close()
	for _, c := range i.closers {
		c()
	}
	for _, h := range i.hosts {
		h.close()
	}
}

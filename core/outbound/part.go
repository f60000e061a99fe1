// Package outbound looks at the outbound side before it is used: does each
// resolver answer, and truthfully; does each route come as far as a mail
// host's greeting; does each identity hold against DNS; is our
// address on a blocklist. Every outcome is a sentence with what to do.
package outbound

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"

	"varnet/core/address"
	"varnet/core/route"
	"varnet/core/smtp"
)

// Kind is a kind of part of the outbound side.
type Kind string

// The kinds.
const (
	Identity  Kind = "identity"
	Resolver  Kind = "resolver"
	Route     Kind = "route"
	Blocklist Kind = "blocklist" // a DNS zone after RFC 5782
)

// Kinds lists the kinds in the order in which they are looked at.
func Kinds() []Kind { return []Kind{Resolver, Route, Identity, Blocklist} }

// Part is one part of the outbound side. What it holds beside its name depends
// on its kind: resolvers and blocklists are their names.
type Part struct {
	Kind Kind
	// Name tells it from others of its kind, and holds no secret.
	Name     string
	Identity smtp.Identity
	Route    route.Route
}

// Parse reads a part as it is written: for an identity the EHLO name and,
// after a space, the sender ("<>" for the empty one); for a resolver host or
// host:port; for a route see route.Parse; for a blocklist its zone.
func Parse(k Kind, line string) (p Part, err error) {
	line = strings.TrimSpace(line)
	p.Kind, p.Name = k, line
	switch k {
	case Identity:
		p.Identity, err = parseIdentity(line)
		p.Name = IdentityName(p.Identity)
	case Resolver:
		p.Name, err = parseResolver(line)
	case Route:
		p.Route, err = route.Parse(line)
		p.Name = p.Route.String()
	case Blocklist:
		p.Name, err = domainName(strings.TrimSuffix(line, "."), "zone")
	default:
		err = fmt.Errorf("%q is not part of outbound; use identity, resolver, route or blocklist", k)
	}
	return p, err
}

// ParseLines reads parts one a line; blank lines and what follows "#" at the
// start of a line are left out. It is all or nothing: the error names each line
// that is wrong.
func ParseLines(k Kind, text string) (parts []Part, err error) {
	var wrong []error
	n := 0
	for line := range strings.Lines(text) {
		n++
		if line = strings.TrimSpace(line); line == "" || line[0] == '#' {
			continue
		}
		p, err := Parse(k, line)
		if err != nil {
			wrong = append(wrong, fmt.Errorf("line %d: %w", n, err))
		}
		parts = append(parts, p)
	}
	if len(parts) == 0 {
		return nil, fmt.Errorf("there is no %s in it; write one per line", k)
	}
	return parts, errors.Join(wrong...)
}

// IdentityName is what an identity is called.
func IdentityName(id smtp.Identity) string { return id.Name + " <" + id.Sender + ">" }

func parseIdentity(line string) (id smtp.Identity, err error) {
	words := strings.Fields(line)
	if len(words) == 0 || len(words) > 2 {
		return id, errors.New("an identity is an EHLO name and a sender, as in verify.fernhollow.example check@fernhollow.example")
	}
	if id.Name, err = domainName(words[0], "EHLO name"); err != nil {
		return id, err
	}
	sender := "verify@" + id.Name
	if len(words) == 2 {
		sender = strings.Trim(words[1], "<>")
	}
	if sender == "" {
		return id, nil
	}
	a, err := address.Parse(sender)
	if err != nil || len(a.Mended) > 0 {
		return id, fmt.Errorf("the sender %q is not an e-mail address; write <> for the empty sender", sender)
	}
	id.Sender = a.Mailbox()
	return id, nil
}

func parseResolver(line string) (string, error) {
	host, port, err := net.SplitHostPort(line)
	if err != nil {
		host, port = strings.Trim(line, "[]"), "53"
	}
	if _, err := netip.ParseAddr(host); err != nil {
		return "", fmt.Errorf("the resolver %q is not given by its IP address, as in 192.0.2.53 or 192.0.2.53:53", line)
	}
	return net.JoinHostPort(host, port), nil
}

// domainName returns a name in canonical form.
func domainName(s, what string) (string, error) {
	a, err := address.Parse("x@" + s)
	if err != nil || len(a.Mended) > 0 {
		return "", fmt.Errorf("the %s %q is not a domain name", what, s)
	}
	return a.Domain, nil
}

package connect

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"net"
	"time"

	"varnet/core/probe"
)

// dialWait is how long a connection may take to come about.
const dialWait = 20 * time.Second

// Dial connects to a host that somebody typed: a public one, unless private ones are allowed.
func (e Env) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := probe.DirectDialer(e.AllowPrivate)
	d.Timeout = dialWait
	return d.DialContext(ctx, network, address)
}

// TLSFor is how a host of a name is trusted.
func (e Env) TLSFor(host string) *tls.Config {
	c := &tls.Config{}
	if e.TLS != nil {
		c = e.TLS.Clone()
	}
	c.ServerName, c.MinVersion = host, tls.VersionTLS12
	return c
}

// Unreachable is an error of a line to a host.
func Unreachable(host string, err error) error {
	var t *Trouble
	var untrusted *tls.CertificateVerificationError
	switch {
	case errors.As(err, &t):
		return t
	case errors.As(err, &untrusted):
		return Troublef("The certificate of %s is not trusted: %s.", host, Plain(untrusted.Err.Error()))
	case errors.Is(err, probe.ErrPrivate):
		return Troublef("%s is not at a public address, and is not contacted. The operator of the installation can allow it (-allow-private).", host)
	}
	return Later("%s cannot be reached: %v.", host, Plain(cmp.Or(errors.Unwrap(err), err).Error()))
}

package dial

import (
	"crypto/tls"
	"net/http"

	"varnet/core/probe"
)

// Web returns a client for addresses that others typed: it contacts public addresses alone,
// unless private ones are allowed, whatever their names lead to at that moment; it goes to where
// no redirect leads and by no proxy. trusted nil trusts whom the system trusts.
func Web(allowPrivate bool, trusted *tls.Config) *http.Client {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.Proxy, t.DialContext, t.TLSClientConfig = nil, probe.DirectDialer(allowPrivate).DialContext, trusted
	t.DisableKeepAlives = true
	return &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

package main

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/acme"
	"golang.org/x/crypto/acme/autocert"

	"varnet/core/say"
)

// tlsSettings are how connections are sealed.
type tlsSettings struct{ certificate, key, names, directory, contact, folder, redirect *string }

func (c *cli) tlsSettings() tlsSettings {
	return tlsSettings{
		certificate: c.setting("tls-cert", "VARNET_TLS_CERT", "", "the file with the certificate and its chain, to serve over TLS; it is read again when it changes"),
		key:         c.setting("tls-key", "VARNET_TLS_KEY", "", "the file with the certificate's key"),
		names:       c.setting("tls-names", "VARNET_TLS_NAMES", "", "the names to get certificates for by ACME (RFC 8555), with commas between, instead of -tls-cert and -tls-key; each must lead to -listen at port 443. Setting it accepts the authority's terms"),
		directory:   c.setting("acme-directory", "VARNET_ACME_DIRECTORY", autocert.DefaultACMEDirectory, "the directory of the certificate authority"),
		contact:     c.setting("acme-contact", "VARNET_ACME_CONTACT", "", "the address that the authority writes to when something is wrong"),
		folder:      c.setting("acme-folder", "VARNET_ACME_FOLDER", besideSecret("acme"), "the folder for its certificates, with their keys"),
		redirect:    c.setting("redirect", "VARNET_REDIRECT", "", "where to answer plain HTTP, with nothing but a redirect to HTTPS, such as 0.0.0.0:80; nowhere unless given"),
	}
}

// besideSecret is a file or folder beside the file of the secret.
func besideSecret(name string) string {
	file := defaultSecretFile()
	if file == "" {
		return ""
	}
	return filepath.Join(filepath.Dir(file), name)
}

// secured is how connections are sealed; the zero value: they are not, or a proxy does it.
type secured struct {
	config   *tls.Config
	manager  *autocert.Manager
	redirect string
}

func (t tlsSettings) read(c *cli) (s secured, err error) {
	s.redirect = *t.redirect
	switch {
	case *t.names != "" && *t.certificate+*t.key != "":
		return s, c.wrongUse("-tls-names gets certificates by itself; leave -tls-cert and -tls-key out")
	case *t.names != "":
		s.manager, err = t.byACME(c)
		if err == nil {
			s.config = s.manager.TLSConfig()
			s.config.NextProtos = []string{"http/1.1", acme.ALPNProto}
		}
	case (*t.certificate == "") != (*t.key == ""):
		return s, c.wrongUse("-tls-cert and -tls-key go together")
	case *t.certificate != "":
		k := &certificate{file: *t.certificate, key: *t.key}
		_, err = k.get(nil)
		s.config = &tls.Config{GetCertificate: k.get, NextProtos: []string{"http/1.1"}}
	case s.redirect != "":
		return s, c.wrongUse("-redirect leads to TLS, so -tls-names, or -tls-cert and -tls-key, go with it")
	}
	if s.config != nil {
		s.config.MinVersion = tls.VersionTLS12
	}
	return s, err
}

// byACME gets certificates of an authority, and renews them a month before they end.
func (t tlsSettings) byACME(c *cli) (*autocert.Manager, error) {
	names := fields(strings.ToLower(*t.names))
	for _, name := range names {
		if !strings.Contains(name, ".") || net.ParseIP(name) != nil {
			return nil, c.wrongUse(fmt.Sprintf("-tls-names are names such as varnet.fernhollow.example, not %q", name))
		}
	}
	if u, err := url.Parse(*t.directory); err != nil || u.Host == "" || u.Scheme != "https" && u.Hostname() != "127.0.0.1" {
		return nil, c.wrongUse(fmt.Sprintf("-acme-directory is an address that begins with https://, not %q", *t.directory))
	}
	if *t.folder == "" {
		return nil, c.wrongUse("this user has no home folder for certificates; name one with -acme-folder")
	}
	if err := os.MkdirAll(*t.folder, 0o700); err != nil {
		return nil, fmt.Errorf("the folder %s for certificates cannot be made: %w", *t.folder, say.WithoutPath(err))
	}
	return &autocert.Manager{Prompt: autocert.AcceptTOS, Cache: autocert.DirCache(*t.folder), HostPolicy: autocert.HostWhitelist(names...), Email: *t.contact,
		Client: &acme.Client{DirectoryURL: *t.directory, UserAgent: "varnet/" + release}}, nil
}

func (s secured) scheme() string {
	if s.config == nil {
		return "http"
	}
	return "https"
}

// over seals what a listener takes.
func (s secured) over(l net.Listener) net.Listener {
	if s.config == nil {
		return l
	}
	return tls.NewListener(l, s.config)
}

// lead leads from plain HTTP to TLS, and shows the authority there that names are ours, where
// it is told to.
func (s secured) lead(log *slog.Logger) (stop func(), err error) {
	if s.redirect == "" {
		return func() {}, nil
	}
	l, err := net.Listen("tcp", s.redirect)
	if err != nil {
		return nil, fmt.Errorf("cannot lead to TLS from %s: %w; choose another port with -redirect", s.redirect, unwrapOp(err))
	}
	handler := http.Handler(http.HandlerFunc(toTLS))
	if s.manager != nil {
		handler = s.manager.HTTPHandler(handler)
	}
	server := &http.Server{Handler: handler, ReadTimeout: 10 * time.Second, WriteTimeout: 10 * time.Second, MaxHeaderBytes: 16 << 10, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	go func() { _ = server.Serve(l) }()
	return func() { _ = server.Close() }, nil
}

// toTLS leads who only looks to the same page over TLS; what holds a key or a file has been
// read by others already, and is refused.
func toTLS(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodGet && r.Method != http.MethodHead || r.Header.Get("Authorization") != "" {
		http.Error(w, "Varnet is served over TLS: write https:// in the address. Whoever was on the way may have read this request; replace the key in it.", http.StatusForbidden)
		return
	}
	host, _, err := net.SplitHostPort(r.Host)
	if err != nil {
		host = r.Host
	}
	http.Redirect(w, r, "https://"+host+r.URL.RequestURI(), http.StatusMovedPermanently)
}

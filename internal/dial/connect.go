package dial

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"varnet/core/route"
)

type connect struct{ r route.Route }

func (c connect) DialContext(ctx context.Context, network, addr string) (net.Conn, error) {
	conn, err := toHost(c).DialContext(ctx, network, c.r.Host)
	if err != nil {
		return nil, err
	}
	sign := ""
	if c.r.User != "" {
		sign = "Basic " + base64.StdEncoding.EncodeToString([]byte(c.r.User+":"+c.r.Secret))
	}
	return tunnel(ctx, c.r, conn, addr, sign)
}

type relay struct{ r route.Route }

// DialContext goes to the relay over TLS. The relay is known by its
// certificate's fingerprint alone, so nobody in between can stand in for it.
func (d relay) DialContext(ctx context.Context, network, addr string) (net.Conn, error) {
	conn, err := toHost(d).DialContext(ctx, network, d.r.Host)
	if err != nil {
		return nil, err
	}
	errOther := errors.New("it shows another certificate")
	secure := tls.Client(conn, &tls.Config{
		MinVersion: tls.VersionTLS13, InsecureSkipVerify: true, // in place of which:
		VerifyPeerCertificate: func(raw [][]byte, _ [][]*x509.Certificate) error {
			if sum := sha256.Sum256(raw[0]); hex.EncodeToString(sum[:]) != d.r.Certificate {
				return errOther
			}
			return nil
		},
	})
	if err := secure.HandshakeContext(ctx); err != nil {
		_ = conn.Close()
		if errors.Is(err, errOther) {
			return nil, failed("Add it again with the line that the relay prints when it starts.", "%s is not the relay that was named: %v.", d.r, errOther)
		}
		return nil, failed("Look whether it is a relay of ours and is well, or remove it.", "%s does not do its work: %v.", d.r, last(err))
	}
	return tunnel(ctx, d.r, secure, addr, "Bearer "+d.r.Secret)
}

// tunnel asks for a connection by CONNECT (RFC 9110 section 9.3.6).
func tunnel(ctx context.Context, r route.Route, conn net.Conn, addr, sign string) (net.Conn, error) {
	if end, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(end)
	}
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	in := bufio.NewReader(conn)
	resp, err := ask(conn, in, addr, sign)
	if err != nil {
		_ = conn.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, failed("Look whether it is a proxy that knows CONNECT, or remove it.", "%s does not do its work: %v.", r, last(err))
	}
	if resp.StatusCode == http.StatusOK {
		_ = conn.SetDeadline(time.Time{})
		return &read{conn, in}, nil
	}
	defer conn.Close()
	return nil, refused(r, resp)
}

func ask(conn net.Conn, in *bufio.Reader, addr, sign string) (*http.Response, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "CONNECT %s HTTP/1.1\r\nHost: %s\r\n", addr, addr)
	if sign != "" {
		fmt.Fprintf(&b, "Proxy-Authorization: %s\r\n", sign)
	}
	b.WriteString("\r\n")
	if _, err := conn.Write(b.Bytes()); err != nil {
		return nil, err
	}
	return http.ReadResponse(in, &http.Request{Method: http.MethodConnect})
}

// refused tells a refusal of the proxy from a failure to reach the host.
func refused(r route.Route, resp *http.Response) error {
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 300))
	says := strings.Join(strings.Fields(string(text)), " ")
	if r.Kind != route.Relay || says == "" {
		says = resp.Status // the pages of proxies are for browsers
	}
	if r.Kind == route.Relay && resp.StatusCode == http.StatusServiceUnavailable {
		return failed("Start it with a higher -limit, or use more routes.", "%s is busy: %s.", r, strings.TrimSuffix(says, "."))
	}
	switch {
	case resp.StatusCode == http.StatusProxyAuthRequired || resp.StatusCode == http.StatusUnauthorized:
		do := wantsSignIn(r)
		if r.Kind == route.Relay {
			do = "Add it again with the line that the relay prints when it starts."
		}
		return failed(do, "%s does not take the sign-in: %s.", r, strings.TrimSuffix(says, "."))
	case resp.StatusCode >= 500: // 502 and 504 by the book, but 500 and 503 are as common
		return fmt.Errorf("the proxy says: %s", says)
	}
	return failed("Ask whoever runs it to allow connections to mail hosts, or remove it.", "%s refuses: %s.", r, strings.TrimSuffix(says, "."))
}

// read is a connection of which some may have been read ahead.
type read struct {
	net.Conn
	in *bufio.Reader
}

func (c *read) Read(b []byte) (int, error) { return c.in.Read(b) }

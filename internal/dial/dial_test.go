package dial_test

import (
	"bufio"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"varnet/core/route"
	"varnet/internal/dial"
	"varnet/internal/testkit"
)

// mailHost greets whoever comes.
func mailHost(t *testing.T) string {
	t.Helper()
	return testkit.Answer(t, func(conn net.Conn) { fmt.Fprint(conn, "220 mx1.fernhollow.example\r\n") })
}

// proxy is an HTTP proxy that knows CONNECT, answers with a status, and opens the
// way where that is 200. The greeting may come in one packet with the answer.
func proxy(t *testing.T, status int, user, password string) string {
	t.Helper()
	return testkit.Answer(t, func(conn net.Conn) {
		r, err := http.ReadRequest(bufio.NewReader(conn))
		if err != nil {
			return
		}
		want := ""
		if user != "" {
			want = "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
		}
		switch {
		case r.Method != http.MethodConnect:
			fmt.Fprint(conn, "HTTP/1.1 405 Method Not Allowed\r\n\r\n")
		case r.Header.Get("Proxy-Authorization") != want:
			fmt.Fprint(conn, "HTTP/1.1 407 Proxy Authentication Required\r\nContent-Length: 0\r\n\r\n")
		case status != http.StatusOK:
			fmt.Fprintf(conn, "HTTP/1.1 %d %s\r\nContent-Length: 6\r\n\r\nsorry\n", status, http.StatusText(status))
		default:
			fmt.Fprint(conn, "HTTP/1.1 200 OK\r\n\r\n220 "+r.Host+"\r\n")
		}
	})
}

// socks is a SOCKS5 proxy (RFC 1928) that answers every request with a code.
func socks(t *testing.T, user, password string, code byte) string {
	t.Helper()
	return testkit.Answer(t, func(conn net.Conn) {
		in := bufio.NewReader(conn)
		head := make([]byte, 2)
		if _, err := io.ReadFull(in, head); err != nil {
			return
		}
		methods := make([]byte, head[1])
		_, _ = io.ReadFull(in, methods)
		wanted := byte(0)
		if user != "" {
			wanted = 2
		}
		if !strings.Contains(string(methods), string(wanted)) {
			_, _ = conn.Write([]byte{5, 0xff})
			return
		}
		_, _ = conn.Write([]byte{5, wanted})
		if user != "" { // RFC 1929
			_, _ = io.ReadFull(in, head)
			given := make([]byte, head[1]+1)
			_, _ = io.ReadFull(in, given)
			secret := make([]byte, given[len(given)-1])
			_, _ = io.ReadFull(in, secret)
			if string(given[:len(given)-1]) != user || string(secret) != password {
				_, _ = conn.Write([]byte{1, 1})
				return
			}
			_, _ = conn.Write([]byte{1, 0})
		}
		request := make([]byte, 10) // an IPv4 address
		_, _ = io.ReadFull(in, request)
		_, _ = conn.Write([]byte{5, code, 0, 1, 0, 0, 0, 0, 0, 0})
		if code == 0 {
			fmt.Fprint(conn, "220 through the proxy\r\n")
		}
	})
}

// by dials a host by a route and reads its greeting.
func by(t *testing.T, line, host string) (greeting string, err error) {
	t.Helper()
	r, err := route.Parse(line)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	conn, err := dial.By(r, true).DialContext(ctx, "tcp", host)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(20 * time.Second))
	return bufio.NewReader(conn).ReadString('\n')
}

// TestRoutesThatWork: the host's greeting comes through each kind of route, also
// where it came in one packet with the proxy's answer.
func TestRoutesThatWork(t *testing.T) {
	host := mailHost(t)
	for what, line := range map[string]string{
		"direct":              "direct",
		"direct, by address":  "direct://127.0.0.1",
		"CONNECT":             "http://" + proxy(t, 200, "", ""),
		"CONNECT, signed in":  "http://library:seedcake@" + proxy(t, 200, "library", "seedcake"),
		"SOCKS5":              "socks5://" + socks(t, "", "", 0),
		"SOCKS5, signed in":   "socks5://library:seedcake@" + socks(t, "library", "seedcake", 0),
		"SOCKS5, not wanting": "socks5://library:seedcake@" + socks(t, "", "", 0),
	} {
		if greeting, err := by(t, line, host); err != nil || !strings.HasPrefix(greeting, "220 ") {
			t.Errorf("%s: %q, %v", what, greeting, err)
		}
	}
}

// TestWhoseFaultItIs: a failure of the route says what to do about it and is never
// taken for the host's; one that the route reports of the host is the host's.
func TestWhoseFaultItIs(t *testing.T) {
	const nobody = "127.0.0.1:1" // a port that was closed just now might be given to the next listener
	babble := testkit.Answer(t, func(conn net.Conn) { fmt.Fprint(conn, "220 I am a mail host\r\n") })
	mute := testkit.Answer(t, func(net.Conn) {})
	host := mailHost(t)
	for _, c := range []struct {
		what, line string
		atRoute    bool
		says       string
	}{
		{"no proxy there", "http://" + nobody, true, "cannot be reached"},
		{"no SOCKS proxy there", "socks5://" + nobody, true, "cannot be reached"},
		{"a wrong password", "http://library:stale@" + proxy(t, 200, "library", "seedcake"), true, "does not take the sign-in"},
		{"no password", "http://" + proxy(t, 200, "library", "seedcake"), true, "does not take the sign-in"},
		{"a wrong SOCKS password", "socks5://library:stale@" + socks(t, "library", "seedcake", 0), true, "does not take the user and password"},
		{"no SOCKS password", "socks5://" + socks(t, "library", "seedcake", 0), true, "needs another kind of sign-in"},
		{"mail hosts forbidden", "http://" + proxy(t, 403, "", ""), true, "refuses"},
		{"mail hosts forbidden by SOCKS", "socks5://" + socks(t, "", "", 2), true, "does not allow connections to mail hosts"},
		{"a mail host in a proxy's place", "http://" + babble, true, "does not do its work"},
		{"a mail host in a SOCKS proxy's place", "socks5://" + babble, true, "does not do its work"},
		{"one that hangs up", "http://" + mute, true, "does not do its work"},
		{"a host that the proxy cannot reach", "http://" + proxy(t, 502, "", ""), false, "the proxy says: 502"},
		{"a host that is too slow for the proxy", "http://" + proxy(t, 504, "", ""), false, "the proxy says: 504"},
		{"a host unreachable by SOCKS", "socks5://" + socks(t, "", "", 4), false, "host unreachable"},
		{"a host that refuses SOCKS", "socks5://" + socks(t, "", "", 5), false, "connection refused"},
	} {
		_, err := by(t, c.line, host)
		var atRoute *route.Failure
		if err == nil || errors.As(err, &atRoute) != c.atRoute || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, at the route %v; want %q, at the route %v", c.what, err, atRoute != nil, c.says, c.atRoute)
			continue
		}
		if c.atRoute && (atRoute.Do == "" || !strings.HasSuffix(atRoute.Do, ".")) {
			t.Errorf("%s: what to do is %q", c.what, atRoute.Do)
		}
		if text := err.Error(); atRoute != nil && strings.Contains(text+atRoute.Do, "stale") {
			t.Errorf("%s: the password is in the message: %s %s", c.what, text, atRoute.Do)
		}
	}
}

// TestPrivateAddressesAreNotAskedForByARoute: no proxy is asked for an address that
// we would not contact ourselves.
func TestPrivateAddressesAreNotAskedForByARoute(t *testing.T) {
	asked := false
	watched := testkit.Answer(t, func(net.Conn) { asked = true })
	for _, line := range []string{"http://" + watched, "socks5://" + watched, "direct"} {
		r, err := route.Parse(line)
		if err != nil {
			t.Fatal(err)
		}
		for _, addr := range []string{"127.0.0.1:25", "10.0.0.1:25", "169.254.169.254:80", "[::1]:25", "mx1.fernhollow.example:25", "nonsense"} {
			if conn, err := dial.By(r, false).DialContext(t.Context(), "tcp", addr); err == nil {
				_ = conn.Close()
				t.Errorf("%s was asked for by %s", addr, line)
			}
		}
	}
	if asked {
		t.Error("a proxy was asked")
	}
}

// TestARouteIsLeftInTime: a proxy that never answers does not hold a session beyond
// its own time.
func TestARouteIsLeftInTime(t *testing.T) {
	still := make(chan struct{})
	defer close(still)
	slow := testkit.Answer(t, func(net.Conn) { <-still })
	for _, kind := range []string{"http", "socks5"} {
		r, err := route.Parse(kind + "://" + slow)
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
		begun := time.Now()
		conn, err := dial.By(r, true).DialContext(ctx, "tcp", "127.0.0.1:25")
		cancel()
		if err == nil {
			_ = conn.Close()
			t.Errorf("%s: a connection came about", kind)
		}
		if took := time.Since(begun); took > 3*time.Second {
			t.Errorf("%s: held for %v", kind, took)
		}
	}
}

package relay

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"varnet/core/route"
	"varnet/internal/dial"
	"varnet/internal/testkit"
)

// start runs a relay to the ports and returns a route to it.
func start(t *testing.T, limit int, ports ...uint16) (route.Route, string) {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "state")
	kept, err := Keep(folder)
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	r := &Relay{Tokens: func() ([]string, error) { return Tokens(folder) }, Ports: ports, AllowPrivate: true, Limit: limit, Log: slog.New(slog.DiscardHandler)}
	go func() { ended <- r.Serve(ctx, l, kept.Certificate) }()
	t.Cleanup(func() {
		cancel()
		if err := <-ended; err != nil {
			t.Errorf("it ended with %v", err)
		}
	})
	return route.Route{Kind: route.Relay, Host: l.Addr().String(), Certificate: Fingerprint(kept.Certificate), Secret: kept.Tokens[0]}, folder
}

// host greets and then says back what it hears.
func host(t *testing.T) (addr string, port uint16) {
	t.Helper()
	addr = testkit.Answer(t, func(c net.Conn) {
		_, _ = io.WriteString(c, "220 hello\r\n")
		_, _ = io.Copy(c, c)
	})
	return addr, netip.MustParseAddrPort(addr).Port()
}

func TestRelay(t *testing.T) {
	addr, port := host(t)
	r, folder := start(t, 1, port)
	conn, err := dial.By(r, true).DialContext(t.Context(), "tcp", addr)
	if err != nil {
		t.Fatal(err)
	}
	got := make([]byte, 11)
	if _, err := io.ReadFull(conn, got); err != nil || string(got) != "220 hello\r\n" {
		t.Errorf("the greeting is %q, %v", got, err)
	}
	if _, err := io.WriteString(conn, "EHLO there\n"); err != nil {
		t.Error(err)
	}
	if _, err := io.ReadFull(conn, got); err != nil || string(got) != "EHLO there\n" {
		t.Errorf("passed on: %q, %v", got, err)
	}
	if _, err := dial.By(r, true).DialContext(t.Context(), "tcp", addr); err == nil || !strings.Contains(err.Error(), "as many as this relay may have") {
		t.Errorf("one more than the limit: %v", err)
	}
	_ = conn.Close()
	for range 50 { // the relay sees the end a moment later
		if conn, err = dial.By(r, true).DialContext(t.Context(), "tcp", addr); err == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if err != nil {
		t.Fatalf("after the first has ended: %v", err)
	}
	_ = conn.Close()

	for _, name := range []string{"token", "certificate.pem"} {
		if info, err := os.Stat(filepath.Join(folder, name)); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v, %v", name, info.Mode(), err)
		}
	}
	again, err := Keep(folder)
	if err != nil || again.Fresh || again.Tokens[0] != r.Secret || Fingerprint(again.Certificate) != r.Certificate {
		t.Errorf("a second start is another relay: %v", err)
	}
}

// TestRotation: another token is good at once and the one before it still, until the next
// rotation.
func TestRotation(t *testing.T) {
	addr, port := host(t)
	r, folder := start(t, 5, port)
	first := r
	for turn := range 3 {
		for name, c := range map[string]struct {
			by   route.Route
			good bool
		}{"the present": {r, true}, "the first": {first, turn < 2}} {
			conn, err := dial.By(c.by, true).DialContext(t.Context(), "tcp", addr)
			if (err == nil) != c.good {
				t.Errorf("after %d rotations %s token: %v", turn, name, err)
			}
			if err == nil {
				_ = conn.Close()
			}
		}
		if err := Rotate(folder); err != nil {
			t.Fatal(err)
		}
		tokens, err := Tokens(folder)
		if err != nil || len(tokens) != 2 || tokens[1] != r.Secret {
			t.Fatalf("%d tokens, %v", len(tokens), err)
		}
		r.Secret = tokens[0]
	}
	if err := os.WriteFile(filepath.Join(folder, "token"), []byte("short\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := dial.By(r, true).DialContext(t.Context(), "tcp", addr); err == nil || !strings.Contains(err.Error(), "the token is not that of this relay") {
		t.Errorf("with a short token in the file: %v", err)
	}
}

func TestRefusals(t *testing.T) {
	addr, port := host(t)
	r, _ := start(t, 5, port)
	wrong, other := r, r
	wrong.Secret = strings.Repeat("x", len(r.Secret))
	other.Certificate = strings.Repeat("ab", 32)
	for name, c := range map[string]struct {
		by       route.Route
		to, says string
	}{
		"a wrong token":       {wrong, addr, "the token is not that of this relay"},
		"another certificate": {other, addr, "another certificate"},
		"another port":        {r, "127.0.0.1:22", "port 22 is not a port of mail hosts"},
		"nobody there":        {r, fmt.Sprintf("127.0.0.99:%d", port), "cannot be reached"},
	} {
		if _, err := dial.By(c.by, true).DialContext(t.Context(), "tcp", c.to); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := dial.By(r, false).DialContext(t.Context(), "tcp", addr); err == nil || !strings.Contains(err.Error(), "not a public address") {
		t.Errorf("a private address is not even asked for: %v", err)
	}
}

package api

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
)

// TestForwarded: only proxies of ours are believed about who asks, and only about the last that
// is not one of them.
func TestForwarded(t *testing.T) {
	ours := []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("192.0.2.0/24")}
	for _, c := range []struct {
		peer, chain, proto, forwarded string
		want                          string
		tls                           bool
	}{
		{"127.0.0.1:9", "", "", "", "127.0.0.1", false},
		{"127.0.0.1:9", "198.51.100.7", "https", "", "198.51.100.7", true},
		{"127.0.0.1:9", "203.0.113.9, 198.51.100.7, 192.0.2.1", "https", "", "198.51.100.7", true},
		{"127.0.0.1:9", "nonsense", "http", "", "127.0.0.1", false},
		{"127.0.0.1:9", "2001:db8::1", "https", "", "2001:db8::1", true},
		{"198.51.100.8:9", "203.0.113.9", "https", "", "198.51.100.8", false},
		{"127.0.0.1:9", "", "", "for=198.51.100.7;proto=https;by=203.0.113.43", "198.51.100.7", true},
		{"127.0.0.1:9", "198.51.100.7", "", "x=y", "127.0.0.1", false},
		{"127.0.0.1:9", "203.0.113.9", "https", `For="[2001:db8:cafe::17]:4711"`, "2001:db8:cafe::17", false},
		{"127.0.0.1:9", "", "", `for=203.0.113.9, for="198.51.100.7:443";proto=https, for=192.0.2.1;proto=http`, "198.51.100.7", true},
		{"127.0.0.1:9", "", "", "for=203.0.113.9;proto=https, for=unknown", "127.0.0.1", false},
		{"127.0.0.1:9", "", "", "for=_hidden;proto=https", "127.0.0.1", true},
		{"198.51.100.8:9", "", "", "for=203.0.113.9;proto=https", "198.51.100.8", false},
	} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.RemoteAddr = c.peer
		r.Header.Set("X-Forwarded-Proto", c.proto)
		if c.forwarded != "" {
			r.Header.Set("Forwarded", c.forwarded)
		}
		if c.chain != "" {
			r.Header.Set("X-Forwarded-For", c.chain)
		}
		w := httptest.NewRecorder()
		var got netip.Addr
		var tls bool
		forwarded(ours, c.forwarded != "")(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { got, tls = addressOf(r.RemoteAddr), overTLS(r.Context()) })).ServeHTTP(w, r)
		if got.String() != c.want || tls != c.tls || (w.Header().Get("Strict-Transport-Security") != "") != tls {
			t.Errorf("%+v: %s, %v", c, got, tls)
		}
	}
}

// TestInConsole: after signing in one goes on within the console.
func TestInConsole(t *testing.T) {
	for to, want := range map[string]string{"/runs/1?x=y#z": "/runs/1?x=y#z", "": "/lists", "//elsewhere.example": "/lists", "/\\elsewhere.example": "/lists", "https://elsewhere.example": "/lists", "javascript:alert(1)": "/lists", "lists": "/lists"} {
		if got := inConsole(to); got != want {
			t.Errorf("%q: %q, want %q", to, got, want)
		}
	}
}

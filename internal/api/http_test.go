package api

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"
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

// TestCaught: a fault of ours is answered and logged, with where it came about; one behind the beginning of an answer breaks
// that off, so that nobody takes half of it for the whole.
func TestCaught(t *testing.T) {
	var log bytes.Buffer
	a := &API{log: slog.New(slog.NewTextHandler(&log, nil))}
	r := chi.NewRouter()
	r.Use(a.logged, a.caught)
	beyond := []int{}
	r.Get("/at-once", func(http.ResponseWriter, *http.Request) { _ = beyond[len(beyond)] })
	r.Get("/midway", func(w http.ResponseWriter, _ *http.Request) {
		_, _ = w.Write(bytes.Repeat([]byte("row\n"), 10_000))
		_ = beyond[len(beyond)]
	})
	s := httptest.NewServer(r)
	defer s.Close()
	answer, err := http.Get(s.URL + "/at-once")
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	var told struct{ Detail string }
	if err := json.NewDecoder(answer.Body).Decode(&told); err != nil || answer.StatusCode != http.StatusInternalServerError || told.Detail != ourFault {
		t.Errorf("%d %q, %v", answer.StatusCode, told.Detail, err)
	}
	if said := log.String(); !strings.Contains(said, "index out of range [0]") || !strings.Contains(said, "route=/at-once") || !strings.Contains(said, "http_test.go") {
		t.Errorf("the log says %s", said)
	}
	answer, err = http.Get(s.URL + "/midway")
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if _, err := io.ReadAll(answer.Body); err == nil {
		t.Error("half an answer came as a whole one")
	}
}

// TestCompress: large texts are compressed; files that can be taken up again at any byte, what few packets
// hold, and streams are sent as they are written.
func TestCompress(t *testing.T) {
	for _, c := range []struct {
		what, kind, accept, want string
		bytes                    int
	}{
		{"a page of results", "application/json", "gzip, br", "gzip", 5000},
		{"what few packets hold", "application/json", "gzip", "", 4000},
		{"a file", "text/csv; charset=utf-8", "gzip", "", 5000},
		{"a stream", "text/event-stream", "gzip", "", 5000},
		{"for a client that takes none", "application/json", "", "", 5000},
	} {
		body := strings.Repeat(`{"finding":"deliverable"}`, c.bytes/25)
		h := compress()(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", c.kind)
			_, _ = w.Write([]byte(body))
			if c.kind == "text/event-stream" {
				_ = http.NewResponseController(w).Flush()
			}
		}))
		r, w := httptest.NewRequest("GET", "/api/v1/lists", nil), httptest.NewRecorder()
		r.Header.Set("Accept-Encoding", c.accept)
		h.ServeHTTP(w, r)
		if got := w.Header().Get("Content-Encoding"); got != c.want || (got == "") != (w.Body.String() == body) || w.Header().Get("Vary") == "" {
			t.Errorf("%s: Content-Encoding %q, %d bytes of %d, Vary %q", c.what, got, w.Body.Len(), len(body), w.Header().Get("Vary"))
		}
	}
}

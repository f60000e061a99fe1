package console_test

import (
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"

	"varnet/internal/console"
)

func get(t *testing.T, path string) *httptest.ResponseRecorder {
	t.Helper()
	w := httptest.NewRecorder()
	console.Handler().ServeHTTP(w, httptest.NewRequestWithContext(t.Context(), http.MethodGet, path, nil))
	return w
}

// TestEveryPageIsThePage: a reload of any page gets the console, fresh each time.
func TestEveryPageIsThePage(t *testing.T) {
	root := get(t, "/")
	for _, path := range []string{"/lists", "/runs/7/results?finding=catch-all", "/index.html", "/runs/../lists", "/no/such/page"} {
		w := get(t, path)
		if w.Code != http.StatusOK || w.Body.String() != root.Body.String() || w.Header().Get("Cache-Control") != "no-cache" {
			t.Errorf("%s: %d, %d bytes, kept: %s", path, w.Code, w.Body.Len(), w.Header().Get("Cache-Control"))
		}
	}
	if !strings.Contains(root.Body.String(), "<title>Varnet") && !strings.Contains(root.Body.String(), "Varnet") {
		t.Error("the page does not say whose it is")
	}
}

// TestScriptsAreKept: what changes its name with its contents is kept for good, and
// nothing outside the built console is served.
func TestScriptsAreKept(t *testing.T) {
	script := regexp.MustCompile(`/assets/[^"]+\.js`).FindString(get(t, "/").Body.String())
	w := get(t, script)
	if w.Code != http.StatusOK || !strings.Contains(w.Header().Get("Content-Type"), "javascript") || !strings.Contains(w.Header().Get("Cache-Control"), "immutable") {
		t.Errorf("%s: %d, %s, kept: %s", script, w.Code, w.Header().Get("Content-Type"), w.Header().Get("Cache-Control"))
	}
	for _, path := range []string{"/../go.mod", "/assets/../../embed.go", "/%2e%2e/go.mod"} {
		if body := get(t, path).Body.String(); strings.Contains(body, "module varnet") || strings.Contains(body, "package web") {
			t.Errorf("%s gives a file of the source", path)
		}
	}
}

// TestPackedForWhoTakesIt: scripts and styles come packed to browsers that take it, the same once
// unpacked in length, and plain to all others.
func TestPackedForWhoTakesIt(t *testing.T) {
	script := regexp.MustCompile(`/assets/[^"]+\.js`).FindString(get(t, "/").Body.String())
	plain := get(t, script)
	for accept, want := range map[string]string{"gzip, deflate, br, zstd": "br", "br;q=0.5": "br", "br;q=0": "", "gzip": "", "brown": "", "": ""} {
		r := httptest.NewRequestWithContext(t.Context(), http.MethodGet, script, nil)
		r.Header.Set("Accept-Encoding", accept)
		w := httptest.NewRecorder()
		console.Handler().ServeHTTP(w, r)
		if got := w.Header().Get("Content-Encoding"); w.Code != http.StatusOK || got != want || !strings.Contains(w.Header().Get("Content-Type"), "javascript") || (want == "") != (w.Body.Len() == plain.Body.Len()) {
			t.Errorf("%q: %d, %q, %s, %d bytes of %d", accept, w.Code, got, w.Header().Get("Content-Type"), w.Body.Len(), plain.Body.Len())
		}
	}
}

package api

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"varnet/internal/summary"
)

func TestTimesAreSaidInTheReadersZone(t *testing.T) {
	at := time.Date(2026, time.November, 23, 22, 5, 0, 0, time.UTC)
	for _, c := range []struct{ header, cookie, want string }{
		{"", "", "22:05:00 UTC"},
		{"Europe/Berlin", "", "23:05:00 CET"},
		{"", "Asia%2FTokyo", "07:05:00 JST"},
		{"Europe/Berlin", "Asia%2FTokyo", "23:05:00 CET"},
		{"../../etc/passwd", "", "22:05:00 UTC"},
		{"Local", "", "22:05:00 UTC"},
	} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.Header.Set("Time-Zone", c.header)
		if c.cookie != "" {
			r.AddCookie(&http.Cookie{Name: "zone", Value: c.cookie})
		}
		var ctx context.Context
		zoned(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { ctx = r.Context() })).ServeHTTP(httptest.NewRecorder(), r)
		if got := summary.Clock(at, zone(ctx)); got != c.want {
			t.Errorf("header %q, cookie %q: %s, want %s", c.header, c.cookie, got, c.want)
		}
	}
}

package api

import (
	"context"
	"net/http"
	"net/url"
	"time"
)

type zoneKey struct{}

// zoned remembers in which time zone a reader wants the times of sentences: the
// one that the header Time-Zone or the console's cookie names, or else UTC.
func zoned(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := r.Header.Get("Time-Zone")
		if c, err := r.Cookie("zone"); name == "" && err == nil {
			name, _ = url.QueryUnescape(c.Value)
		}
		if zone, err := time.LoadLocation(name); err == nil && name != "" && name != "Local" {
			r = r.WithContext(context.WithValue(r.Context(), zoneKey{}, zone))
		}
		next.ServeHTTP(w, r)
	})
}

// zone is the reader's time zone.
func zone(ctx context.Context) *time.Location {
	if zone, ok := ctx.Value(zoneKey{}).(*time.Location); ok {
		return zone
	}
	return time.UTC
}

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

// readersTime gives a time in the reader's zone.
func readersTime(ctx context.Context, t time.Time) time.Time {
	if zone, ok := ctx.Value(zoneKey{}).(*time.Location); ok {
		return t.In(zone)
	}
	return t.UTC()
}

// clock says a time of today as all sentences of the service do, when one of any
// day.
func clock(ctx context.Context, t time.Time) string {
	return readersTime(ctx, t).Format("15:04:05 MST")
}

func when(ctx context.Context, t time.Time) string {
	return "on " + readersTime(ctx, t).Format("2 January at 15:04 MST")
}

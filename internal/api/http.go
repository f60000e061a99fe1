package api

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
)

var requests = promauto.NewHistogramVec(prometheus.HistogramOpts{
	Name: "varnet_http_request_seconds", Help: "Duration of HTTP requests by route and status.",
	Buckets: []float64{.005, .02, .1, .5, 2, 10, 60},
}, []string{"method", "route", "status"})

// methodOf is the method as a label: those that there are, and one for all that somebody may
// make up.
func methodOf(r *http.Request) string {
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
		return r.Method
	}
	return "other"
}

// hosted refuses requests for other hosts than those by which the service is reached: a page
// elsewhere could have its own name lead here. Numbers are nobody's name.
func hosted(names []string) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			host := r.Host
			if h, _, err := net.SplitHostPort(host); err == nil {
				host = h
			}
			host = strings.ToLower(strings.Trim(host, "[]"))
			if _, err := netip.ParseAddr(host); len(names) > 0 && err != nil && !slices.Contains(names, host) {
				writeProblem(w, http.StatusMisdirectedRequest, "This service is not reached by that name. Whoever runs it names its hosts with -hosts (VARNET_HOSTS).")
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}

// logged logs and measures requests, by route and not by path.
func (a *API) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		took := time.Since(start)
		requests.WithLabelValues(methodOf(r), route, strconv.Itoa(ww.Status())).Observe(took.Seconds())
		a.log.Debug("request", "method", r.Method, "route", route, "status", ww.Status(), "took", took)
	})
}

// caught answers where a fault of ours came to light, unless the answer has begun, and logs where that was.
func (a *API) caught(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			f := recover()
			if f == nil {
				return
			}
			if f == http.ErrAbortHandler {
				panic(f)
			}
			a.log.Error("a request came upon a fault", "method", r.Method, "route", chi.RouteContext(r.Context()).RoutePattern(), "fault", f, "at", string(debug.Stack()))
			if ww, ok := w.(middleware.WrapResponseWriter); ok && ww.Status() != 0 {
				panic(http.ErrAbortHandler) // so that half an answer is not taken for a whole one
			}
			writeProblem(w, http.StatusInternalServerError, ourFault)
		}()
		next.ServeHTTP(w, r)
	})
}

// secured sets the headers that keep a page to what Varnet itself serves. AntD
// puts its styles into the page, hence the inline styles; scripts are never
// inline.
func secured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
			"object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store") // no copy of a list stays on the way, or with the browser
		}
		next.ServeHTTP(w, r)
	})
}

type overTLSKey struct{}

// hop is what one proxy says: who asked it, and by what.
type hop struct{ from, proto string }

// hops are what the proxies on the way say, the first one's before: in Forwarded (RFC 7239), or
// in the headers that most proxies write. Only those that the proxies are known to write are
// read: the others pass through them as anybody may have sent them.
func hops(h http.Header, standard bool) (out []hop) {
	if standard {
		for _, one := range strings.Split(strings.Join(h.Values("Forwarded"), ","), ",") {
			var at hop
			for _, pair := range strings.Split(one, ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
				switch value = strings.Trim(value, `"`); strings.ToLower(name) {
				case "for":
					at.from = value
				case "proto":
					at.proto = value
				}
			}
			out = append(out, at)
		}
		return out
	}
	for _, from := range strings.Split(strings.Join(h.Values("X-Forwarded-For"), ","), ",") {
		out = append(out, hop{strings.TrimSpace(from), h.Get("X-Forwarded-Proto")})
	}
	return out
}

// address is who asked a proxy: an address, maybe with a port and in brackets (RFC 7239,
// section 6); not valid where it hides them.
func (h hop) address() netip.Addr {
	if at, err := netip.ParseAddrPort(h.from); err == nil {
		return at.Addr().Unmap()
	}
	a, _ := netip.ParseAddr(strings.Trim(h.from, "[]"))
	return a.Unmap()
}

// forwarded believes what proxies of ours say: who asks them, and whether over TLS. The last
// address that is not a proxy of ours is who asks; what is before it, anybody may have written.
func forwarded(proxies []netip.Prefix, standard bool) func(http.Handler) http.Handler {
	ours := func(a netip.Addr) bool {
		return slices.ContainsFunc(proxies, func(p netip.Prefix) bool { return p.Contains(a) })
	}
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			tls := r.TLS != nil
			if ours(addressOf(r.RemoteAddr)) {
				for _, h := range slices.Backward(hops(r.Header, standard)) {
					tls = tls || h.proto == "https"
					a := h.address()
					if !a.IsValid() {
						break
					}
					r.RemoteAddr = netip.AddrPortFrom(a, 0).String()
					if !ours(a) {
						break
					}
				}
			}
			if tls {
				w.Header().Set("Strict-Transport-Security", "max-age=31536000")
				r = r.WithContext(context.WithValue(r.Context(), overTLSKey{}, true))
			}
			next.ServeHTTP(w, r)
		})
	}
}

// overTLS reports whether a browser has reached us over TLS.
func overTLS(ctx context.Context) bool { return ctx.Value(overTLSKey{}) == true }

// sameOrigin refuses what a browser sends for another site.
func sameOrigin() *http.CrossOriginProtection {
	p := http.NewCrossOriginProtection()
	p.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		writeProblem(w, http.StatusForbidden, "The request comes from a page of another site. Nothing was done.")
	}))
	p.AddInsecureBypassPattern("POST /api/v1" + formPath) // the key of the form tells which pages may
	return p
}

// writeProblem writes a problem document (RFC 9457) outside of typed operations.
func writeProblem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(huma.NewError(status, detail))
}

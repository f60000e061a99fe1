package connect

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"varnet/internal/dial"
)

// Web speaks HTTP with a place at the pace that it takes.
type Web struct {
	HTTP *http.Client
	// Pace is how many requests a second there are; nil: as many as come.
	Pace *rate.Limiter
	// SignIn signs a request.
	SignIn func(ctx context.Context, r *http.Request) error
	// Renew is called when a request was refused for its sign-in, once; it reports whether
	// another one may be taken. nil: it may not.
	Renew func(ctx context.Context) (bool, error)
}

// NewWeb returns the way to a place by HTTP. name is what shares a pace.
func (e Env) NewWeb(name string, perSecond float64) *Web {
	w := &Web{HTTP: dial.Web(e.AllowPrivate, e.TLS)}
	w.HTTP.Timeout = answerWait
	if t, ok := w.HTTP.Transport.(*http.Transport); ok {
		t.DisableKeepAlives = false
		t.IdleConnTimeout = 10 * time.Second
	}
	if perSecond > 0 {
		w.Pace = paceOf(name, perSecond)
	}
	return w
}

// paces are shared by all that goes on at once with a place in this process.
var paces = struct {
	sync.Mutex
	by map[string]*rate.Limiter
}{by: map[string]*rate.Limiter{}}

const mostPaces = 10_000

func paceOf(name string, perSecond float64) *rate.Limiter {
	paces.Lock()
	defer paces.Unlock()
	p := paces.by[name]
	if p == nil {
		if len(paces.by) >= mostPaces {
			clear(paces.by)
		}
		p = rate.NewLimiter(rate.Limit(perSecond), 1)
		paces.by[name] = p
	}
	p.SetLimit(rate.Limit(perSecond))
	return p
}

// The bounds of a request.
const (
	answerWait = 90 * time.Second
	tries      = 7
	firstWait  = 500 * time.Millisecond
	mostWait   = 60 * time.Second // that a place may ask for
	MostAnswer = 64 << 20
)

// Answer is what a place answered.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
}

// Do makes a request, and again where the answer passes: when it comes too soon, when the place is
// out of order for a moment, when the line breaks. body may be nil. What is answered with an error
// is a Trouble with the place's words, but for the statuses that are wanted.
func (w *Web) Do(ctx context.Context, method, address string, header http.Header, body []byte, wanted ...int) (Answer, error) {
	renewed := false
	for try := 1; ; try++ {
		a, err := w.once(ctx, method, address, header, body)
		switch {
		case err != nil && (ctx.Err() != nil || !Passes(err)):
			return a, err
		case err == nil && a.Status == http.StatusUnauthorized && w.Renew != nil && !renewed:
			renewed = true
			switch ok, err := w.Renew(ctx); {
			case err != nil:
				return a, err
			case !ok:
				return a, a.trouble(address)
			}
			continue
		case err == nil && !MayPass(a.Status):
			for _, s := range wanted {
				if a.Status == s {
					return a, nil
				}
			}
			return a, a.trouble(address)
		}
		if try == tries {
			if err == nil {
				err = a.trouble(address)
			}
			return a, err
		}
		if err := rest(ctx, wait(try, a.Header)); err != nil {
			return a, err
		}
	}
}

func (w *Web) once(ctx context.Context, method, address string, header http.Header, body []byte) (a Answer, err error) {
	if w.Pace != nil {
		if err := w.Pace.Wait(ctx); err != nil {
			return a, err
		}
	}
	req, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(body))
	if err != nil {
		return a, Troublef("%q is not an address.", address)
	}
	req.Header = header.Clone()
	if req.Header == nil {
		req.Header = http.Header{}
	}
	if w.SignIn != nil {
		if err := w.SignIn(ctx, req); err != nil {
			return a, err
		}
	}
	resp, err := w.HTTP.Do(req)
	if err != nil {
		return a, Unreachable(req.URL.Host, err)
	}
	defer resp.Body.Close()
	a.Status, a.Header = resp.StatusCode, resp.Header
	a.Body, err = io.ReadAll(io.LimitReader(resp.Body, MostAnswer+1))
	switch {
	case err != nil:
		return a, Later("The answer of %s broke off: %v.", req.URL.Host, err)
	case len(a.Body) > MostAnswer:
		return a, Troublef("An answer of %s has more than %d MB. Ask for fewer contacts a page, or leave long fields out.", req.URL.Host, MostAnswer>>20)
	}
	return a, nil
}

// MayPass reports whether an answer may be another when it is asked for again.
func MayPass(status int) bool {
	return status == http.StatusTooManyRequests || status == http.StatusRequestTimeout || status >= 500 && status != http.StatusNotImplemented
}

// wait is how long to wait after a try: as long as the place says (RFC 9110, 10.2.3), or longer
// each time.
func wait(try int, h http.Header) time.Duration {
	if h != nil {
		if s := h.Get("Retry-After"); s != "" {
			if n, err := strconv.Atoi(s); err == nil && n >= 0 {
				return time.Duration(min(n, int(mostWait/time.Second))) * time.Second
			}
			if at, err := http.ParseTime(s); err == nil {
				return max(0, min(time.Until(at), mostWait))
			}
		}
	}
	d := firstWait << (try - 1)
	return d/2 + rand.N(d/2+1)
}

func rest(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// trouble is an answer as an error.
func (a Answer) trouble(address string) error {
	host := address
	if _, after, ok := strings.Cut(address, "://"); ok {
		host, _, _ = strings.Cut(after, "/")
	}
	t := &Trouble{Status: a.Status}
	status := strconv.Itoa(a.Status) + " " + http.StatusText(a.Status)
	switch {
	case a.Status == http.StatusUnauthorized || a.Status == http.StatusForbidden:
		t.Broken, t.Why = true, fmt.Sprintf("%s refused the sign-in (%s%s). Check the key, or sign in again.", host, status, a.words())
	case a.Status/100 == 3:
		t.Why = fmt.Sprintf("%s sends us elsewhere (%s), where nothing is followed. Give the address that it names.", host, status)
	case MayPass(a.Status):
		t.Later, t.Why = true, fmt.Sprintf("%s answered %s%s, %d times in a row.", host, status, a.words(), tries)
	default:
		t.Why = fmt.Sprintf("%s answered %s%s.", host, status, a.words())
	}
	return t
}

// words are what the place said, in short.
func (a Answer) words() string {
	text := Plain(string(a.Body[:min(len(a.Body), 2000)]))
	if text == "" || strings.HasPrefix(text, "<") {
		return ""
	}
	return ": " + shortened(text, 300)
}

// Plain is text of a place as it may be shown: on one line, without control characters.
func Plain(text string) string {
	return strings.Join(strings.FieldsFunc(text, func(r rune) bool { return r <= ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r == '\uFFFD' }), " ")
}

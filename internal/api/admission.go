package api

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/time/rate"

	"varnet/internal/account"
	"varnet/internal/giveway"
	"varnet/internal/store"
)

// going is what may go on at a time in a workspace.
type going string

// What is counted. Everything else is answered in a moment.
const (
	importing going = "imports"
	exporting going = "exports"
	streaming going = "streams"
	checking  going = "checks"
)

// checksAtOnce is how many requests to check addresses go on at a time in a workspace.
const checksAtOnce = 20

// longOnes are the operations that go on for a while.
var longOnes = map[string]going{
	"import-list": importing, "import-newer-file": importing, "preview-file": importing, "upload-part": importing,
	"export-rows": exporting, "export-mailing": exporting, "get-list-problems": exporting, "export-audit": exporting, "get-report": exporting, "make-workshop-file": exporting, "get-list-columns": exporting,
	"check-addresses": checking,
	"watch-workspace": streaming, "watch-run": streaming, "check-address": streaming,
}

// attended are those of them for which somebody waits, as for all that is answered in a moment: what
// nobody waits for gives way to them.
var attended = map[string]bool{"preview-file": true, "check-addresses": true, "check-address": true}

// admission lets requests in as far as the limits go.
type admission struct {
	mu     sync.Mutex
	counts map[going]map[int64]int // by workspace; 0: all together
	rates  map[string]*visitorRate
	held   map[[sha256.Size]byte]refusedUntil // by credential
	swept  time.Time
	turns  *fair

	limits   store.Limits
	limitsAt time.Time
}

// visitorRate is how often somebody may ask.
type visitorRate struct {
	*rate.Limiter
	most int
	seen time.Time
}

// refusedUntil is somebody who was told to come again, and does not wait.
type refusedUntil struct {
	at  time.Time
	why string
}

// hold has a credential refused for as long as it was told to wait: without looking it up
// again, which is most of what a refused request costs.
func (a *admission) hold(credential string, wait time.Duration, why string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.held[sha256.Sum256([]byte(credential))] = refusedUntil{time.Now().Add(wait), why}
}

// holds returns how long a credential is refused yet, and why; 0: it is not.
func (a *admission) holds(credential string) (time.Duration, string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	h := a.held[sha256.Sum256([]byte(credential))]
	return max(0, time.Until(h.at)), h.why
}

// mostTogether is by how much all workspaces together may have more than one.
const mostTogether = 4

// enter counts something that begins; what it returns is called at its end. It is nil where
// there are as many as may be.
func (a *admission) enter(what going, workspace int64, most int) func() {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.counts[what] == nil {
		a.counts[what] = map[int64]int{}
	}
	in := a.counts[what]
	if in[workspace] >= most || in[0] >= most*mostTogether {
		return nil
	}
	in[workspace]++
	in[0]++
	return sync.OnceFunc(func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		in[0]--
		if in[workspace]--; in[workspace] == 0 {
			delete(in, workspace)
		}
	})
}

// atOnce is how many of what somebody may ask in a minute they may ask at once, where ten
// seconds' worth is less.
const atOnce = 60

// rateRest is how long nobody has to ask for what is known of their rate to be forgotten.
const rateRest = 10 * time.Minute

// take takes n of what somebody may ask in a minute, and returns how long to wait where there
// are none left.
func (a *admission) take(who string, perMinute, n int) time.Duration {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := time.Now()
	if now.Sub(a.swept) > time.Minute {
		for name, r := range a.rates {
			if now.Sub(r.seen) > rateRest {
				delete(a.rates, name)
			}
		}
		for of, h := range a.held {
			if now.After(h.at) {
				delete(a.held, of)
			}
		}
		a.swept = now
	}
	r := a.rates[who]
	if r == nil || r.most != perMinute {
		r = &visitorRate{rate.NewLimiter(rate.Limit(float64(perMinute)/60), min(perMinute, max(atOnce, perMinute/6))), perMinute, now}
		a.rates[who] = r
	}
	r.seen = now
	taken := r.ReserveN(now, min(n, r.Burst()))
	if wait := taken.DelayFrom(now); wait > 0 {
		taken.CancelAt(now)
		return wait
	}
	return 0
}

// turns are how many requests of one workspace, or network, are answered at a time; others of
// its own wait for their turn, and nobody else's do. They are few, so that they take no
// processor away that others need: what a request waits for is mostly that.
const turns = 3

// turnWait is how long a request waits for its turn.
const turnWait = 20 * time.Second

// limitsKept is how long the limits are taken to be as they were read.
const limitsKept = 5 * time.Second

func (a *API) limits(ctx context.Context) (store.Limits, error) {
	if l, known := a.admission.knownLimits(); known {
		return l, nil
	}
	l, err := a.store.Limits(ctx)
	if err == nil {
		a.admission.knowLimits(l)
	}
	return l, err
}

func (a *admission) knownLimits() (l store.Limits, known bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.limits, time.Since(a.limitsAt) < limitsKept
}

func (a *admission) knowLimits(l store.Limits) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.limits, a.limitsAt = l, time.Now()
}

// strangers is how many requests a minute a network may send that are of nobody who is
// signed in.
const strangers = 600

// admitted lets a request pass as far as its workspace, or the network of a stranger, has
// not had its share.
func (a *API) admitted(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		l, err := a.limits(ctx.Context())
		if err != nil {
			a.log.Error("the limits could not be read", "err", err)
			_ = huma.WriteErr(h, ctx, http.StatusServiceUnavailable, "The database does not answer. Try again in a moment.")
			return
		}
		c, known := ctx.Context().Value(callerKey{}).(account.Caller)
		who, most := "network "+addressOf(ctx.RemoteAddr()).String(), strangers
		if known {
			who, most = fmt.Sprintf("workspace %d, person %d", c.WorkspaceID, personWithout(c)), l.RequestsMinute
		}
		visitor := len(c.Origins) > 0
		if visitor { // of whom one keeps no other from the form
			who, most = fmt.Sprintf("key %d, network %s", c.KeyID, addressOf(ctx.RemoteAddr())), strangers
		}
		if wait := a.admission.take(who, most, 1); wait > 0 {
			why := fmt.Sprintf("%d requests a minute is the most here.", most)
			if known && !visitor {
				a.admission.hold(sessionOf(ctx), waitTold(wait), why)
			}
			busy(h, ctx, wait, why)
			return
		}
		leave, wait, why := a.begin(ctx, who, c.WorkspaceID, l)
		if leave == nil {
			busy(h, ctx, wait, why)
			return
		}
		defer leave()
		// From its turn on a request is one that somebody waits for, or one that gives way to those.
		what := longOnes[ctx.Operation().OperationID]
		if what == "" || attended[ctx.Operation().OperationID] {
			of, done := a.engine.Gate.Attend(ctx.Context())
			defer done()
			ctx = huma.WithContext(ctx, of)
		} else if what == importing || what == exporting {
			ctx = huma.WithContext(ctx, giveway.Of(ctx.Context(), giveway.Files))
		}
		next(ctx)
	}
}

// begin waits for a request's turn among those that are answered in a moment, or counts it among
// the long ones of its workspace. leave is to be called at its end; nil: it is to come again after
// wait, and why.
func (a *API) begin(ctx huma.Context, who string, workspace int64, l store.Limits) (leave func(), wait time.Duration, why string) {
	what := longOnes[ctx.Operation().OperationID]
	if what == "" {
		within, cancel := context.WithTimeout(ctx.Context(), turnWait)
		defer cancel()
		leave, err := a.admission.turns.enter(within, who)
		if err != nil {
			return nil, time.Second, "Too many requests are being answered at this moment."
		}
		return leave, 0, ""
	}
	most := map[going]int{importing: l.Imports, exporting: l.Exports, streaming: l.Streams, checking: checksAtOnce}[what]
	return a.admission.enter(what, workspace, most), 10 * time.Second, fmt.Sprintf("Too many %s go on at this moment; your workspace may have %d at a time.", what, most)
}

// personWithout is the person of a caller who is in no workspace: they have a rate of their own.
func personWithout(c account.Caller) int64 {
	if c.WorkspaceID != 0 {
		return 0
	}
	return c.PersonID
}

// waitTold is how long somebody is told to wait: whole seconds.
func waitTold(wait time.Duration) time.Duration { return wait.Truncate(time.Second) + time.Second }

// busy answers that something was asked too often, and when to come again (RFC 6585, 4).
func busy(h huma.API, ctx huma.Context, wait time.Duration, why string) {
	seconds := int(waitTold(wait) / time.Second)
	ctx.SetHeader("Retry-After", strconv.Itoa(seconds))
	if ctx.Method() != http.MethodGet {
		ctx.SetHeader("Connection", "close") // what is left of the body is not waited for
	}
	_ = huma.WriteErr(h, ctx, http.StatusTooManyRequests, fmt.Sprintf("%s Nothing was done; try again in %d seconds.", why, seconds))
}

// mayCheck takes so many checks of what a workspace may ask in a minute.
func (a *API) mayCheck(ctx context.Context, n int) error {
	l, err := a.limits(ctx)
	if err != nil {
		return a.failed(ctx, err)
	}
	if wait := a.admission.take(fmt.Sprintf("checks of %d", callerOf(ctx).WorkspaceID), l.ChecksMinute, n); wait > 0 {
		return comeAgain(wait, "A workspace may check %d single addresses a minute. Nothing was asked; try again in %d seconds, or import them as a list.", l.ChecksMinute, int(waitTold(wait)/time.Second))
	}
	return nil
}

// comeAgain refuses what may be asked again after a while (RFC 6585, section 4).
func comeAgain(wait time.Duration, format string, args ...any) error {
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests(fmt.Sprintf(format, args...)), http.Header{"Retry-After": {strconv.Itoa(int(waitTold(wait) / time.Second))}})
}

// Package api is Varnet's HTTP interface: typed operations under /api/v1 with
// one contract (OpenAPI 3.1), problem documents for errors (RFC 9457), keyset
// pages, event streams; the console; and what operators of the service read
// (/healthz, /readyz, /metrics). It holds no SQL.
package api

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/netip"
	"strings"
	"syscall"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/klauspost/compress/gzhttp"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"varnet/core/address"
	"varnet/core/ledger"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/account"
	"varnet/internal/allowance"
	"varnet/internal/bounce"
	"varnet/internal/console"
	"varnet/internal/contract"
	"varnet/internal/intake"
	"varnet/internal/letter"
	"varnet/internal/live"
	"varnet/internal/rights"
	"varnet/internal/store"
	"varnet/internal/summary"
	"varnet/internal/trial"
	"varnet/internal/work"
)

// API serves the HTTP interface.
type API struct {
	store  *store.Store
	engine *work.Engine
	log    *slog.Logger
	// ending ends when the service stops: event streams end with it.
	ending    context.Context
	orders    orders
	summaries *summary.Summaries
	live      *live.Hub
	letters   *letter.Office
	accounts  *account.Accounts
	admission *admission
	reading   *fair // of files
	looking   *fair // at the beginning of files
	// operations are the summaries of all operations by their names.
	operations map[string]string
	release    string
}

// Options are what the service is told about those who call it.
type Options struct {
	// Demo is the address of the person of a demo, as whom anybody on this machine may sign
	// in; "" where it is none.
	Demo string
	// Proxies are the networks of proxies in front of the service that are believed.
	Proxies []netip.Prefix
	// Forwarded: they write the header Forwarded (RFC 7239), and not X-Forwarded-For.
	Forwarded bool
	// Hosts are the names by which the service is reached; none: any.
	Hosts []string
	// Release is what the service is.
	Release string
}

// Metrics is the handler of what is measured, for a listener of its own. With a token it
// wants that as a bearer.
func Metrics(token string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if given := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer "); token != "" && subtle.ConstantTimeCompare([]byte(given), []byte(token)) != 1 {
			writeProblem(w, http.StatusUnauthorized, "Metrics need the token that the service was started with (VARNET_METRICS_TOKEN).")
			return
		}
		promhttp.Handler().ServeHTTP(w, r)
	})
}

// New returns the handler of everything the service serves. Event streams end
// when ending does.
func New(ending context.Context, e *work.Engine, o Options) http.Handler {
	db := e.Store.Requests()
	a := &API{store: db, engine: e, log: e.Log, ending: ending, release: o.Release, summaries: &summary.Summaries{Source: db, Left: e.Left},
		live:    live.New(db, e.Log),
		letters: &letter.Office{Store: db, Secrets: e.Secrets}}
	a.admission = &admission{counts: map[going]map[int64]int{}, rates: map[string]*visitorRate{}, held: map[[sha256.Size]byte]refusedUntil{}, turns: newFair(turns, 0)}
	a.reading, a.looking = newFair(readersEach, readers), newFair(lookersEach, lookers)
	a.accounts = &account.Accounts{Store: db, Secrets: e.Secrets, Office: a.letters, Post: e.PostLetter, Happened: e.Happened, Log: e.Log, Demo: o.Demo}
	go a.live.Run(ending)
	r := chi.NewRouter()
	r.Use(forwarded(o.Proxies, o.Forwarded), a.logged, a.caught, paced, hosted(o.Hosts), secured, zoned, sameOrigin().Handler, compress())
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", a.ready)
	r.Route("/api/v1", func(r chi.Router) {
		h := humachi.New(r, configuration())
		h.UseMiddleware(a.authenticate(h), a.admitted(h), strict(h), a.audited(h), a.idempotent(h))
		a.register(h)
		preflights(r)
		a.operations = summaries(h.OpenAPI())
		r.Get("/docs", docs(h))
		r.Get("/problems", problems)
		r.MethodNotAllowed(wrongMethod)
		r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
			writeProblem(w, http.StatusNotFound, "There is nothing at this address; /api/v1/docs lists all operations.")
		})
	})
	r.Route(strings.TrimSuffix(trial.UnsubscribePath, "/"), a.unsubscribing)
	r.NotFound(console.Handler().ServeHTTP)
	return r
}

// compressFrom is from how many bytes on responses are compressed: fewer fit three packets, which go out together, and
// compressing them would take longer than what it saves.
const compressFrom = 4 << 10

// compress compresses responses that are texts and not small.
func compress() func(http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.ContentTypes(compressed), gzhttp.MinSize(compressFrom), gzhttp.EnableZstd(false))
	if err != nil {
		panic(err) // an option that cannot be
	}
	return func(next http.Handler) http.Handler { return wrap(next) }
}

// compressed are the types that are sent compressed. Exported files are not among them:
// their downloads are taken up again at any byte.
var compressed = []string{"text/html", "text/css", "text/plain", "text/javascript", "application/javascript", "application/json",
	"application/problem+json", "application/openapi+json", "image/svg+xml", "font/ttf"}

// Contract returns the contract as an OpenAPI 3.1 document.
func Contract() ([]byte, error) {
	h := humachi.New(chi.NewRouter(), configuration())
	(&API{}).register(h)
	return json.MarshalIndent(h.OpenAPI(), "", "  ")
}

func configuration() huma.Config {
	huma.DefaultArrayNullable = false // an empty list is sent as one
	c := huma.DefaultConfig("Varnet", "1")
	c.Info.Description = "Verifies e-mail addresses in bulk and exports the deliverable ones."
	c.Info.Contact = &huma.Contact{Name: "Whoever runs this installation"}
	c.Info.License = &huma.License{Name: "Apache License 2.0", Identifier: "Apache-2.0"}
	c.Servers = []*huma.Server{{URL: "/api/v1"}}
	c.DocsPath, c.SchemasPath = "", ""
	c.Formats = map[string]huma.Format{"application/json": textFormat(), "json": textFormat()}
	c.CreateHooks = nil
	c.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", huma.DefaultSchemaNamer)
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"key":     {Type: "http", Scheme: "bearer", Description: "A key of the workspace, or the token of a device that a person let in."},
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie, Description: "A console session. Over TLS its name begins with __Host-."},
	}
	c.Security = []map[string][]string{{"key": {}}, {"session": {}}}
	return c
}

func (a *API) register(h huma.API) {
	a.registerSessions(h)
	a.registerSignIn(h)
	a.registerPersons(h)
	a.registerRights(h)
	a.registerForms(h)
	a.registerTeams(h)
	a.registerInstallation(h)
	a.registerAudit(h)
	a.registerLists(h)
	a.registerUploads(h)
	a.registerRuns(h)
	a.registerResults(h)
	a.registerExport(h)
	a.registerPolicies(h)
	a.registerReport(h)
	a.registerEstimate(h)
	a.registerWorkers(h)
	a.registerOverrides(h)
	a.registerMatching(h)
	a.registerRetention(h)
	a.registerChecks(h)
	a.registerCatalogue(h)
	a.registerPages(h)
	a.registerKeys(h)
	a.registerOutbound(h)
	a.registerChanges(h)
	a.registerLetters(h)
	a.registerNotices(h)
	a.registerWebhooks(h)
	a.registerRoutines(h)
	a.registerConnections(h)
	a.registerWriteBacks(h)
	a.registerMailings(h)
	a.registerTrials(h)
	a.registerWorkshop(h)
	a.registerOdds(h)
	a.registerActivity(h)
	a.registerMeanings(h)
	a.registerOpinions(h)
	a.registerBounceSources(h)
	a.registerAllowance(h)
	a.registerPurchases(h)
	a.registerAccounts(h)
	a.registerLinks(h)
	closeValues(h.OpenAPI())
	describeKeys(h.OpenAPI())
	secure(h.OpenAPI())
	describe(h.OpenAPI())
	nameEvents(h.OpenAPI())
}

// operation describes an operation in one line.
func operation(id, method, path, summary string) huma.Operation {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary,
		Errors: []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusUnprocessableEntity, http.StatusTooManyRequests, http.StatusInternalServerError, http.StatusServiceUnavailable}}
	if strings.Contains(path, "{") {
		op.Errors = append(op.Errors, http.StatusNotFound)
	}
	if method != http.MethodGet {
		op.Errors = append(op.Errors, http.StatusConflict)
	}
	if method != http.MethodGet && method != http.MethodDelete {
		op.Errors = append(op.Errors, http.StatusBadRequest, http.StatusRequestEntityTooLarge, http.StatusUnsupportedMediaType)
	}
	if method == http.MethodDelete {
		op.DefaultStatus = http.StatusNoContent
	}
	return op
}

// made is what an operation answers that makes something: where it is, and what it is.
type made[T any] struct {
	Location string `header:"Location" doc:"Where it is."`
	Body     T
}

// creates describes an operation that makes something.
func creates(op huma.Operation) huma.Operation {
	op.DefaultStatus = http.StatusCreated
	return op
}

// failed turns an error into a problem document. What is not meant for people
// is logged and told as a fault of ours.
func (a *API) failed(ctx context.Context, err error) error {
	if err == nil {
		return nil
	}
	var inFile *sheet.Error
	var refused *account.Refused
	var often *account.TooMany
	var full *intake.TooManyRows
	var short *ledger.Short
	var hindered *allowance.Refused
	var wrong *address.Error
	var kept rights.NotErased
	var unread *bounce.FileError
	switch {
	case errors.As(err, &refused):
		return refusal(refused)
	case errors.As(err, &often):
		return tooMany(often)
	case errors.As(err, &short):
		return tooShort(short)
	case errors.As(err, &hindered):
		return huma.Error409Conflict(hindered.Why)
	case errors.As(err, &full):
		return huma.Error409Conflict(full.Error())
	case errors.As(err, &kept):
		return huma.Error409Conflict(kept.Error())
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound("There is no such record in your workspace.")
	case errors.As(err, &inFile):
		return huma.Error422UnprocessableEntity(inFile.Error())
	case errors.As(err, &wrong):
		return huma.Error422UnprocessableEntity(wrong.Error())
	case errors.As(err, &unread):
		return huma.Error422UnprocessableEntity(say.Sentence(unread.Error()))
	case ctx.Err() != nil:
		return huma.NewError(499, "The request was cancelled before it was answered.")
	case store.Full(err), errors.Is(err, syscall.ENOSPC):
		a.log.Error("there is no room left", "err", err)
		return huma.NewError(http.StatusInsufficientStorage, "There is no room left, on the disk of the database or of the service. Nothing was changed. Send it again once whoever runs the service has made room.")
	case store.Away(err):
		a.log.Error("the database broke off", "err", err)
		return huma.NewError(http.StatusServiceUnavailable, "The connection to the database broke off, and nothing was changed. Try again in a moment.")
	}
	a.log.Error("a request failed", "err", err)
	return huma.Error500InternalServerError(ourFault)
}

// ourFault is what is told of a fault of ours.
const ourFault = "Something went wrong in Varnet. Try again; the service's log says more."

// refusal tells why somebody was refused.
func refusal(r *account.Refused) error {
	switch r.Kind {
	case account.Unproved:
		return huma.Error401Unauthorized(r.Why)
	case account.Forbidden:
		return huma.Error403Forbidden(r.Why)
	case account.Conflict:
		return huma.Error409Conflict(r.Why)
	case account.Unconfirmed:
		return ofKind(contract.Unconfirmed, r.Why)
	}
	return huma.Error422UnprocessableEntity(r.Why)
}

// tooMany tells until when somebody has to wait (RFC 6585, 4).
func tooMany(t *account.TooMany) error {
	return comeAgain(time.Until(t.Until), "%s", t)
}

// summaries returns what each operation is for.
func summaries(doc *huma.OpenAPI) map[string]string {
	out := map[string]string{}
	for _, item := range doc.Paths {
		for _, op := range operationsOf(item) {
			out[op.OperationID] = op.Summary
		}
	}
	return out
}

func (a *API) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := a.store.Ping(ctx); err != nil {
		http.Error(w, "PostgreSQL does not answer", http.StatusServiceUnavailable)
		return
	}
	_, _ = w.Write([]byte("ready\n"))
}

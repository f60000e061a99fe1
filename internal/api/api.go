// Package api is Varnet's HTTP interface: typed operations under /api/v1 with
// one contract (OpenAPI 3.1), problem documents for errors (RFC 9457), keyset
// pages, event streams; the console; and what operators of the service read
// (/healthz, /readyz, /metrics). It holds no SQL.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"varnet/core/address"
	"varnet/core/sheet"
	"varnet/internal/console"
	"varnet/internal/intake"
	"varnet/internal/store"
	"varnet/internal/summary"
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
	importer  *intake.Importer
}

// New gives the handler of everything the service serves. Event streams end
// when ending does.
func New(ending context.Context, e *work.Engine) http.Handler {
	a := &API{store: e.Store, engine: e, log: e.Log, ending: ending, summaries: &summary.Summaries{Source: e.Store, Left: e.Left},
		importer: &intake.Importer{Store: e.Store, Grammar: e.Grammar, Catalogue: e.Catalogue}}
	r := chi.NewRouter()
	r.Use(a.logged, secured, zoned, http.NewCrossOriginProtection().Handler)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", a.ready)
	r.Handle("/metrics", promhttp.Handler())
	r.Route("/api/v1", func(r chi.Router) {
		h := humachi.New(r, configuration())
		h.UseMiddleware(a.authenticate(h))
		a.register(h)
		r.Get("/docs", docs(h))
		r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
			problem(w, http.StatusNotFound, "There is nothing at this address; /api/v1/docs lists all operations.")
		})
	})
	r.NotFound(console.Handler().ServeHTTP)
	return r
}

// Contract gives the contract as an OpenAPI 3.1 document.
func Contract() ([]byte, error) {
	h := humachi.New(chi.NewRouter(), configuration())
	(&API{}).register(h)
	return json.MarshalIndent(h.OpenAPI(), "", "  ")
}

func configuration() huma.Config {
	huma.DefaultArrayNullable = false // an empty list is sent as one
	c := huma.DefaultConfig("Varnet", "1")
	c.Info.Description = "Verifies e-mail addresses in bulk and exports the deliverable ones."
	c.Servers = []*huma.Server{{URL: "/api/v1"}}
	c.DocsPath, c.SchemasPath = "", ""
	c.CreateHooks = nil
	c.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", huma.DefaultSchemaNamer)
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"key":     {Type: "http", Scheme: "bearer", Description: "A key of the workspace."},
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie, Description: "A console session."},
	}
	c.Security = []map[string][]string{{"key": {}}, {"session": {}}}
	return c
}

func (a *API) register(h huma.API) {
	a.registerSessions(h)
	a.registerLists(h)
	a.registerUploads(h)
	a.registerRuns(h)
	a.registerResults(h)
	a.registerTakeOut(h)
	a.registerPolicies(h)
	a.registerReport(h)
	a.registerEstimate(h)
	a.registerWorkers(h)
	a.registerByHand(h)
	a.registerFitting(h)
	a.registerKeeping(h)
	a.registerChecks(h)
	a.registerCatalogue(h)
	a.registerLooks(h)
	a.registerKeys(h)
	a.registerSending(h)
}

// operation describes an operation in one line.
func operation(id, method, path, summary string) huma.Operation {
	op := huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary,
		Errors: []int{http.StatusUnauthorized, http.StatusUnprocessableEntity}}
	if strings.Contains(path, "{") {
		op.Errors = append(op.Errors, http.StatusNotFound)
	}
	if method == http.MethodDelete {
		op.DefaultStatus = http.StatusNoContent
	}
	return op
}

// failed turns an error into a problem document. What is not meant for people
// is logged and told as a fault of ours.
func (a *API) failed(ctx context.Context, err error) error {
	var inFile *sheet.Error
	var wrong *address.Error
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound("There is no such record in your workspace.")
	case errors.As(err, &inFile):
		return huma.Error422UnprocessableEntity(inFile.Error())
	case errors.As(err, &wrong):
		return huma.Error422UnprocessableEntity(wrong.Error())
	case ctx.Err() != nil:
		return huma.NewError(499, "The request was given up before it was answered.")
	}
	a.log.Error("a request failed", "err", err)
	return huma.Error500InternalServerError("Something went wrong in Varnet. Try again; the service's log says more.")
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

package api

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
)

// strict refuses query parameters that an operation does not have: a misspelt filter is
// none, and an operation with none acts on everything.
func strict(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		var known []string
		for _, p := range ctx.Operation().Parameters {
			if p.In == "query" {
				known = append(known, p.Name)
			}
		}
		u := ctx.URL()
		var wrong []error
		for _, name := range slices.Sorted(maps.Keys(u.Query())) {
			if !slices.Contains(known, name) {
				wrong = append(wrong, &huma.ErrorDetail{Location: "query." + name, Message: noParameter(known)})
			}
		}
		if len(wrong) > 0 {
			_ = huma.WriteErr(h, ctx, http.StatusUnprocessableEntity, "The query has parameters that this operation does not know. Nothing was done.", wrong...)
			return
		}
		next(ctx)
	}
}

func noParameter(known []string) string {
	if len(known) == 0 {
		return "there is no such parameter; this operation takes none"
	}
	return "there is no such parameter; this operation takes " + say.And(known...)
}

// closeValues has the contract name all values of parameters that come from a registry,
// so that others are refused.
func closeValues(api *huma.OpenAPI) {
	values := map[string][]any{}
	add := func(name, value string) { values[name] = append(values[name], value) }
	for _, f := range finding.Findings() {
		add("finding", string(f))
	}
	for _, c := range finding.Causes() {
		add("cause", string(c.Code))
		if !slices.Contains(values["stage"], any(string(c.Stage))) {
			add("stage", string(c.Stage))
		}
	}
	for _, t := range finding.TraitInfos() {
		add("trait", string(t.Code))
	}
	for _, d := range policy.Decisions() {
		add("decision", string(d))
	}
	for _, item := range api.Paths {
		for _, op := range operationsOf(item) {
			for _, p := range op.Parameters {
				if v := values[p.Name]; p.In == "query" && v != nil && len(p.Schema.Enum) == 0 {
					p.Schema.Enum = v
					p.Schema.PrecomputeMessages()
				}
			}
		}
	}
}

// operationsOf returns the operations at a path, by method.
func operationsOf(item *huma.PathItem) map[string]*huma.Operation {
	out := map[string]*huma.Operation{}
	for method, op := range map[string]*huma.Operation{http.MethodGet: item.Get, http.MethodPost: item.Post, http.MethodDelete: item.Delete, http.MethodPut: item.Put, http.MethodPatch: item.Patch} {
		if op != nil {
			out[method] = op
		}
	}
	return out
}

// wrongMethod answers a method that an address does not take, and names those it takes
// (RFC 9110 section 15.5.6).
func wrongMethod(w http.ResponseWriter, r *http.Request) {
	var allowed []string
	routes := chi.RouteContext(r.Context()).Routes
	for _, m := range []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete} {
		if routes.Match(chi.NewRouteContext(), m, r.URL.Path) {
			allowed = append(allowed, m)
		}
	}
	w.Header().Set("Allow", strings.Join(allowed, ", "))
	writeProblem(w, http.StatusMethodNotAllowed, fmt.Sprintf("%s is not what this address takes; it takes %s.", r.Method, say.Or(allowed...)))
}

package api

import (
	"cmp"
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
// none, and an operation with none acts on everything. It also refuses invalid text.
func strict(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		var known []string
		for _, p := range ctx.Operation().Parameters {
			if p.In == "query" {
				known = append(known, p.Name)
			}
		}
		u := ctx.URL()
		if !say.IsText(u.Path) {
			_ = huma.WriteErr(h, ctx, http.StatusUnprocessableEntity, "The path contains invalid text. Nothing was done.", &huma.ErrorDetail{Location: "path", Message: noText})
			return
		}
		query := u.Query()
		var wrong, odd []error
		for _, name := range slices.Sorted(maps.Keys(query)) {
			if !slices.Contains(known, name) {
				wrong = append(wrong, &huma.ErrorDetail{Location: "query." + name, Message: noParameter(known)})
			} else if slices.ContainsFunc(query[name], func(value string) bool { return !say.IsText(value) }) {
				odd = append(odd, &huma.ErrorDetail{Location: "query." + name, Message: noText})
			}
		}
		switch {
		case len(wrong) > 0:
			_ = huma.WriteErr(h, ctx, http.StatusUnprocessableEntity, "The query has parameters that this operation does not know. Nothing was done.", wrong...)
		case len(odd) > 0:
			_ = huma.WriteErr(h, ctx, http.StatusUnprocessableEntity, "The query contains invalid text. Nothing was done.", odd...)
		default:
			next(ctx)
		}
	}
}

// noText says what text may not contain: no name and no address does, and the database takes neither.
const noText = "NUL (U+0000), and bytes that are not UTF-8, are not allowed in text; send it without them"

// textFormat is JSON whose strings are valid text.
func textFormat() huma.Format {
	f := huma.DefaultJSONFormat
	read := f.Unmarshal
	f.Unmarshal = func(data []byte, v any) error {
		if err := read(data, v); err != nil {
			return err
		}
		if whole, is := v.(*any); is {
			if place := noTextAt("", *whole); place != "" {
				return fmt.Errorf("%s: %s", strings.TrimPrefix(place, "."), noText)
			}
		}
		return nil
	}
	return f
}

// noTextAt returns the place of the first string in what was read of JSON that is not valid text; "" where all are.
func noTextAt(place string, v any) string {
	switch v := v.(type) {
	case string:
		if !say.IsText(v) {
			return cmp.Or(place, "the body")
		}
	case []any:
		for i := range v {
			if at := noTextAt(fmt.Sprintf("%s[%d]", place, i), v[i]); at != "" {
				return at
			}
		}
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(v)) {
			if !say.IsText(name) {
				return cmp.Or(place, "the body")
			}
			if at := noTextAt(place+"."+name, v[name]); at != "" {
				return at
			}
		}
	}
	return ""
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

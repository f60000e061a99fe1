package api

import (
	"html/template"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

var docsPage = template.Must(template.New("docs").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>Varnet: the API</title>
<style>
body { font: 16px/1.5 sans-serif; margin: 2rem auto; max-width: 60rem; padding: 0 1rem; color: #1d2b3a; background: #faf7f1 }
h2 { margin-top: 2rem; font-size: 1.1rem } code { background: #efe9dd; padding: 0 .25em } td { padding: .1rem 1rem .1rem 0; vertical-align: top }
</style>
<h1>Varnet: the API</h1>
<p>All operations are under <code>/api/v1</code>. Give a key of your workspace as <code>Authorization: Bearer …</code>.
Errors are <a href="problems">problem documents</a> (RFC 9457). The whole contract is <a href="openapi.json">openapi.json</a>.</p>
{{range .}}<h2><code>{{.Method}} {{.Path}}</code></h2><p>{{.Summary}}.{{if .Body}} Send: {{.Body}}.{{end}}</p>
{{if .Params}}<table>{{range .Params}}<tr><td><code>{{.Name}}</code><td>{{.Description}}{{end}}</table>{{end}}
{{end}}</html>`))

type documented struct {
	Method, Path, Summary, Body string
	Params                      []*huma.Param
}

// docs is a page made from the contract; it loads nothing from anywhere.
func docs(h huma.API) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		var all []documented
		for path, item := range h.OpenAPI().Paths {
			for method, op := range operationsOf(item) {
				all = append(all, documented{method, path, op.Summary, bodyKind(op), op.Parameters})
			}
		}
		slices.SortFunc(all, func(a, b documented) int { return strings.Compare(a.Path+a.Method, b.Path+b.Method) })
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = docsPage.Execute(w, all)
	}
}

func bodyKind(op *huma.Operation) string {
	if op.RequestBody == nil {
		return ""
	}
	for kind, media := range op.RequestBody.Content {
		if media.Schema != nil && media.Schema.Ref != "" {
			return strings.TrimPrefix(media.Schema.Ref, "#/components/schemas/") + " as " + kind
		}
		return "the file as " + kind
	}
	return ""
}

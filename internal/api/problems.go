package api

import (
	"html/template"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
)

// Problems that operations return are of the kind of their status.
func init() {
	huma.NewError = func(status int, detail string, errs ...error) huma.StatusError {
		return problemOf(contract.ProblemOf(status), status, detail, errs...)
	}
}

// problemOf makes a problem document of a kind (RFC 9457).
func problemOf(k contract.ProblemKind, status int, detail string, errs ...error) huma.StatusError {
	if detail == "validation failed" { // huma's own words
		detail = "The request has something that this operation does not take. Nothing was done."
	}
	p := &huma.ErrorModel{Type: k.Type(), Title: k.Title, Status: status, Detail: detail}
	for _, err := range errs {
		if err != nil {
			p.Add(err)
		}
	}
	return p
}

// ofKind makes a problem of a kind that its status alone does not tell.
func ofKind(k contract.ProblemKind, detail string) error { return problemOf(k, k.Status, detail) }

var problemsPage = template.Must(template.New("problems").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>Varnet: problems</title>
<style>
body { font: 16px/1.5 sans-serif; margin: 2rem auto; max-width: 60rem; padding: 0 1rem; color: #1d2b3a; background: #faf7f1 }
h2 { margin-top: 2rem; font-size: 1.1rem } code { background: #efe9dd; padding: 0 .25em } :target { background: #efe9dd }
</style>
<h1>Problems</h1>
<p>Errors are sent as <code>application/problem+json</code> (RFC 9457). The <code>type</code> is one of these and does not change;
<code>detail</code> is for people; <code>errors</code> name each place that is wrong.</p>
{{range .}}<section id="{{.Name}}"><h2>{{.Title}}: <code>{{.Name}}</code>, status {{.Status}}</h2><p>{{.Meaning}} {{.Remedy}}</p></section>
{{end}}</html>`))

func problems(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = problemsPage.Execute(w, contract.ProblemKinds())
}

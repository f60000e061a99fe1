package api

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
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
h2 { margin-top: 3rem; border-top: 1px solid #d8cfbd; padding-top: 1rem } h3 { margin: 2rem 0 .25rem; font-size: 1rem } p { margin: .5rem 0 }
code { background: #efe9dd; padding: 0 .25em; overflow-wrap: anywhere } pre { background: #efe9dd; padding: .5rem; overflow-x: auto } td { padding: .1rem 1rem .1rem 0; vertical-align: top } td code { white-space: nowrap }
a { color: #1b5e63 } .quiet { color: #56616c }
</style>
<h1>Varnet: the API</h1>
<p>All operations are under <code>/api/v1</code>. Give a key of your workspace as <code>Authorization: Bearer …</code>.
Errors are <a href="problems">problem documents</a> (RFC 9457). The whole contract is <a href="openapi.json">openapi.json</a>.
The calls below are for a shell in which <code>VARNET_SERVER</code> is this service and <code>VARNET_KEY</code> a key.</p>
<p>{{range $i, $g := .}}{{if $i}} · {{end}}<a href="#{{$g.Anchor}}">{{$g.Name}}</a>{{end}}</p>
{{range .}}<h2 id="{{.Anchor}}">{{.Name}}</h2><p>{{.About}}</p>
{{range .Operations}}<h3 id="{{.ID}}">{{.Summary}}: <code>{{.Method}} {{.Path}}</code></h3>
<p>{{.Text}} <span class="quiet">{{.Wants}}{{if .Body}} Send {{.Body}}.{{end}}{{if .Answer}} Answers {{.Answer}}.{{end}}</span></p>
{{if .Params}}<table>{{range .Params}}<tr><td><code>{{.Name}}</code><td>{{.Description}}{{end}}</table>{{end}}
<pre>{{.Call}}</pre>
{{end}}{{end}}</html>`))

// documentedGroup is a part of the documentation: the operations about one thing.
type documentedGroup struct {
	Name, Anchor, About string
	Operations          []documented
}

type documented struct {
	ID, Method, Path, Summary, Text, Wants, Body, Answer, Call string
	Params                                                     []*huma.Param
}

// docs is a page made from the contract; it loads nothing from anywhere.
func docs(h huma.API) http.HandlerFunc {
	doc := h.OpenAPI()
	return func(w http.ResponseWriter, _ *http.Request) {
		var all []documentedGroup
		for _, tag := range doc.Tags {
			g := documentedGroup{Name: tag.Name, Anchor: strings.ReplaceAll(strings.ToLower(tag.Name), " ", "-"), About: tag.Description}
			for path, item := range doc.Paths {
				for method, op := range operationsOf(item) {
					if slices.Contains(op.Tags, tag.Name) {
						g.Operations = append(g.Operations, document(path, method, op))
					}
				}
			}
			slices.SortFunc(g.Operations, func(a, b documented) int {
				return cmp.Or(strings.Compare(a.Path, b.Path), strings.Compare(a.Method, b.Method))
			})
			all = append(all, g)
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = docsPage.Execute(w, all)
	}
}

func document(path, method string, op *huma.Operation) documented {
	d := documented{ID: op.OperationID, Method: method, Path: path, Summary: op.Summary, Text: op.Description, Params: op.Parameters, Wants: "For everybody.", Call: exampleCall(path, method, op)}
	switch scope, role := op.Extensions["x-scope"], op.Extensions["x-role"]; {
	case scope != nil && role != nil:
		d.Wants = fmt.Sprintf("For the scope %s; of persons for %ss and above.", scope, role)
	case scope != nil:
		d.Wants = fmt.Sprintf("For the scope %s.", scope)
	case op.Security == nil:
		d.Wants = "For every key and person."
	}
	if kind, media := bodyOf(op); media != nil {
		d.Body = schemaName(media, "the file") + " as " + kind
	}
	d.Answer = answerOf(op)
	return d
}

// bodyOf returns the body that an operation takes; nil: none.
func bodyOf(op *huma.Operation) (kind string, of *huma.MediaType) {
	if op.RequestBody != nil {
		for kind, of = range op.RequestBody.Content {
			return kind, of
		}
	}
	return "", nil
}

func schemaName(media *huma.MediaType, otherwise string) string {
	if media.Schema == nil || media.Schema.Ref == "" {
		return otherwise
	}
	return strings.TrimPrefix(media.Schema.Ref, "#/components/schemas/")
}

// answerOf names what an operation answers where all is well.
func answerOf(op *huma.Operation) string {
	for status, r := range op.Responses {
		if status[0] != '2' {
			continue
		}
		for kind, media := range r.Content {
			return status + " with " + schemaName(media, kind)
		}
		return status
	}
	return ""
}

// exampleCall is a call of the operation in a shell.
func exampleCall(path, method string, op *huma.Operation) string {
	words := []string{"curl -sS"}
	if method != http.MethodGet {
		words = append(words, "-X "+method)
	}
	if op.Security == nil || len(op.Security) > 0 {
		words = append(words, `-H "Authorization: Bearer $VARNET_KEY"`)
	}
	switch kind, media := bodyOf(op); {
	case media == nil:
	case media.Example != nil:
		var b bytes.Buffer
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(false)
		_ = e.Encode(media.Example)
		words = append(words, "-H 'Content-Type: "+kind+"' -d '"+strings.ReplaceAll(strings.TrimSpace(b.String()), "'", `'\''`)+"'")
	default:
		words = append(words, "-H 'Content-Type: "+kind+"' --data-binary @members.csv")
	}
	query := ""
	for _, p := range op.Parameters {
		if p.In == "path" {
			path = strings.ReplaceAll(path, "{"+p.Name+"}", placeholder(p))
		} else if p.In == "query" && p.Required {
			query += "&" + p.Name + "=" + placeholder(p)
		}
	}
	if query != "" {
		path += "?" + query[1:]
	}
	return strings.Join(append(words, `"$VARNET_SERVER/api/v1`+path+`"`), " ")
}

// placeholder is what stands for a parameter in an example.
func placeholder(p *huma.Param) string {
	if p.Schema != nil && len(p.Schema.Examples) > 0 {
		return fmt.Sprint(p.Schema.Examples[0])
	}
	if p.Schema != nil && len(p.Schema.Enum) > 0 {
		return fmt.Sprint(p.Schema.Enum[0])
	}
	if p.Schema != nil && p.Schema.Type == "integer" {
		return "1"
	}
	return strings.ToUpper(p.Name)
}

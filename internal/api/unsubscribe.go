package api

import (
	"errors"
	"html/template"
	"net/http"

	"github.com/go-chi/chi/v5"

	"varnet/internal/trial"
)

// unsubscribing serves the unsubscribe links of trial letters. Anybody may come, who has the letter: a person,
// who is asked once more, or their mail program by RFC 8058. A GET changes nothing, since
// programs on the way follow links.
func (a *API) unsubscribing(r chi.Router) {
	r.Get("/{tag}", func(w http.ResponseWriter, q *http.Request) {
		out, err := a.engine.Trials.Unsubscription(q.Context(), chi.URLParam(q, "tag"))
		a.unsubscribePage(w, unsubscribePage{Address: out.Letter.Mailbox, From: out.From}, err)
	})
	r.Post("/{tag}", func(w http.ResponseWriter, q *http.Request) {
		out, err := a.engine.Trials.Unsubscription(q.Context(), chi.URLParam(q, "tag"))
		if err == nil {
			err = a.engine.Trials.Unsubscribe(q.Context(), out)
		}
		a.unsubscribePage(w, unsubscribePage{Address: out.Letter.Mailbox, From: out.From, Done: true}, err)
	})
}

type unsubscribePage struct {
	Address string
	From    string // the sender's name
	Done    bool
	Problem string
}

func (a *API) unsubscribePage(w http.ResponseWriter, p unsubscribePage, err error) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("X-Robots-Tag", "noindex")
	w.Header().Set("Cache-Control", "no-store")
	switch {
	case errors.Is(err, trial.ErrNoLetter):
		w.WriteHeader(http.StatusNotFound)
		p.Problem = "This link belongs to no letter. Copy it whole out of the letter, or answer the letter."
	case err != nil:
		a.log.Error("somebody could not unsubscribe", "err", err)
		w.WriteHeader(http.StatusServiceUnavailable)
		p.Problem = "This does not work at the moment. Try again in a few minutes, or answer the letter."
	}
	_ = unsubscribeTemplate.Execute(w, p)
}

var unsubscribeTemplate = template.Must(template.New("unsubscribe").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>Unsubscribe</title>
<style>body{margin:0 auto;max-width:560px;padding:48px 24px;font:16px/24px sans-serif;background:#faf7f1;color:#1d2b3a}
h1{font-size:28px;line-height:40px;margin:0 0 16px}p{margin:0 0 24px;overflow-wrap:anywhere}
button{font:inherit;padding:8px 16px;border:0;border-radius:6px;background:#1d2b3a;color:#fff;cursor:pointer}</style></head><body><main>
{{if .Problem}}<h1>Unsubscribe</h1><p role="alert">{{.Problem}}</p>
{{else if .Done}}<h1>Done</h1><p role="status">{{.Address}} gets no more messages of {{or .From "this sender"}} by way of this service.</p>
{{else}}<h1>Unsubscribe</h1><p>Shall {{.Address}} get no more messages of {{or .From "this sender"}}?</p>
<form method="post"><input type="hidden" name="List-Unsubscribe" value="One-Click"><button>Send no more messages</button></form>{{end}}
</main></body></html>`))

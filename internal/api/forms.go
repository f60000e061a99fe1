package api

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"varnet/internal/contract"
	"varnet/internal/form"
	"varnet/internal/store"
)

// formPath is where public forms ask. Pages of other sites may: a key tells of which.
const formPath = "/forms/check"

func (a *API) registerForms(h huma.API) {
	huma.Register(h, operation("check-form", http.MethodPost, formPath, "Whether an address that a visitor types into a form can be used"), a.checkForm)
}

type formInput struct {
	from string
	Body contract.OneAddress
}

// Resolve takes note of where the visitor is.
func (f *formInput) Resolve(ctx huma.Context) []error {
	f.from = addressOf(ctx.RemoteAddr()).String()
	return nil
}

func (a *API) checkForm(ctx context.Context, in *formInput) (*struct{ Body contract.FormAnswer }, error) {
	c := callerOf(ctx)
	if len(c.Origins) == 0 {
		return nil, huma.Error403Forbidden("This is for the keys of forms, which name the origins of their pages.")
	}
	found, err := a.engine.Forms.Ask(ctx, form.Question{Workspace: c.WorkspaceID, Visitor: in.from, Typed: in.Body.Address,
		Key: store.Opened{KeyID: c.KeyID, KeyName: c.KeyName, VisitorDay: c.VisitorDay}})
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.FormAnswer }{contract.FormAnswer{Answer: string(found.Answer), Suggestion: found.Suggestion}}, nil
}

// fromForm reports whether a request with the key of a form comes from a page of one of its
// origins, and lets the browser give that page the answer (the Fetch standard, section 3.2).
func fromForm(ctx huma.Context, origins []string) bool {
	origin := ctx.Header("Origin")
	if !slices.Contains(origins, origin) {
		return false
	}
	ctx.SetHeader("Access-Control-Allow-Origin", origin)
	ctx.SetHeader("Vary", "Origin")
	return true
}

// preflights answers browsers that ask whether a page may ask. Which pages may is not known before
// the key comes; nothing is done here.
func preflights(r chi.Router) {
	r.Options(formPath, func(w http.ResponseWriter, q *http.Request) {
		h := w.Header()
		h.Set("Access-Control-Allow-Origin", q.Header.Get("Origin"))
		h.Set("Vary", "Origin")
		h.Set("Access-Control-Allow-Methods", http.MethodPost)
		h.Set("Access-Control-Allow-Headers", "authorization, content-type")
		h.Set("Access-Control-Max-Age", "7200") // two hours, the most that browsers keep it
		w.WriteHeader(http.StatusNoContent)
	})
}

package api

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
	"varnet/internal/store"
)

const sessionCookie = "varnet_session"

type workspaceKey struct{}

// workspace is who the request acts for; the middleware has put it there.
func workspace(ctx context.Context) store.Workspace {
	return ctx.Value(workspaceKey{}).(store.Workspace)
}

// public marks an operation that needs no key.
var public = map[string]any{"public": true}

// authenticate lets a request pass by a bearer key or a console session.
func (a *API) authenticate(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if ctx.Operation().Metadata["public"] == true {
			next(ctx)
			return
		}
		w, err := a.whoIs(ctx)
		missing := lacks(w, ctx.Operation().OperationID)
		switch {
		case errors.Is(err, store.ErrUnknownKey):
			_ = huma.WriteErr(h, ctx, http.StatusUnauthorized,
				"The key is not known. It is none, has expired, or may not be used from your network. Give a key of your workspace (Authorization: Bearer …), or sign in to the console with it.")
		case err != nil:
			a.log.Error("a key could not be looked up", "err", err)
			_ = huma.WriteErr(h, ctx, http.StatusServiceUnavailable, "The database does not answer. Try again in a moment.")
		case missing != "":
			_ = huma.WriteErr(h, ctx, http.StatusForbidden, missing)
		default:
			next(huma.WithValue(ctx, workspaceKey{}, w))
		}
	}
}

func (a *API) whoIs(ctx huma.Context) (store.Workspace, error) {
	if key, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		return a.store.WorkspaceOfKey(ctx.Context(), strings.TrimSpace(key), addressOf(ctx.RemoteAddr()))
	}
	if c, err := huma.ReadCookie(ctx, sessionCookie); err == nil {
		return a.store.WorkspaceOfSession(ctx.Context(), c.Value, addressOf(ctx.RemoteAddr()))
	}
	return store.Workspace{}, store.ErrUnknownKey
}

type sessionOutput struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      contract.Session
}

func (a *API) registerSessions(h huma.API) {
	op := operation("sign-in", http.MethodPost, "/session", "Sign in to the console with a key")
	op.Metadata, op.Security = public, []map[string][]string{}
	huma.Register(h, op, a.signIn)
	huma.Register(h, operation("get-session", http.MethodGet, "/session", "Who is signed in"),
		func(ctx context.Context, _ *struct{}) (*struct{ Body contract.Session }, error) {
			return &struct{ Body contract.Session }{contract.Session{Workspace: workspace(ctx).Name, Keeper: workspace(ctx).Keeper}}, nil
		})
	huma.Register(h, operation("sign-out", http.MethodDelete, "/session", "Sign out"), a.signOut)
}

func (a *API) signIn(ctx context.Context, in *signInInput) (*sessionOutput, error) {
	w, err := a.store.WorkspaceOfKey(ctx, strings.TrimSpace(in.Body.Key), in.from)
	if errors.Is(err, store.ErrUnknownKey) {
		return nil, huma.Error401Unauthorized("This key is not known. Check that it was pasted whole; a new one is made by: varnet key new")
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	session, err := a.store.NewSession(ctx, w.KeyID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &sessionOutput{SetCookie: cookie(session, store.SessionLife), Body: contract.Session{Workspace: w.Name, Keeper: w.Keeper}}, nil
}

// signInInput is a request to sign in, with the address that it comes from.
type signInInput struct {
	Body contract.SignIn
	from netip.Addr
}

// Resolve takes note of where the request comes from.
func (in *signInInput) Resolve(ctx huma.Context) []error {
	in.from = addressOf(ctx.RemoteAddr())
	return nil
}

func cookie(value string, life time.Duration) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", MaxAge: int(life.Seconds()), HttpOnly: true,
		SameSite: http.SameSiteStrictMode}
}

func (a *API) signOut(ctx context.Context, in *struct {
	Session string `cookie:"varnet_session" doc:"The session that ends."`
}) (*struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}, error) {
	if err := a.store.EndSession(ctx, in.Session); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}{cookie("", -time.Second)}, nil
}

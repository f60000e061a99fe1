package api

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/account"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// The cookies: of the session, and of the browser, by which it is known again. Over TLS the
// first has a name that binds it to this host alone (RFC 6265bis, 4.1.3.2).
const (
	sessionCookie = "varnet_session"
	sealedCookie  = "__Host-" + sessionCookie
	deviceCookie  = "varnet_device"
	deviceLife    = 400 * 24 * time.Hour
)

type callerKey struct{}

// callerOf is who the request acts for; the middleware has put it there.
func callerOf(ctx context.Context) account.Caller {
	return ctx.Value(callerKey{}).(account.Caller)
}

// ownWorkspace is the workspace that a request acts in.
type ownWorkspace struct {
	ID   int64
	Name string
}

// workspace is the one that the caller works in.
func workspace(ctx context.Context) ownWorkspace {
	c := callerOf(ctx)
	return ownWorkspace{c.WorkspaceID, c.Workspace}
}

// open reports whether anybody may call an operation.
func open(op *huma.Operation) bool { return wanted[op.OperationID] == anyone }

// authenticate lets a request pass by a bearer key or a console session.
func (a *API) authenticate(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		if open(ctx.Operation()) {
			next(ctx)
			return
		}
		if wait, why := a.admission.holds(sessionOf(ctx)); wait > 0 {
			select { // who does not wait is made to: answers would cost more than silence
			case <-time.After(min(wait, mostSilence)):
			case <-ctx.Context().Done():
			}
			busy(h, ctx, wait, why)
			return
		}
		c, err := a.whoIs(ctx)
		missing := lacks(c, ctx.Operation().OperationID)
		switch {
		case errors.Is(err, store.ErrUnknownKey):
			_ = huma.WriteErr(h, ctx, http.StatusUnauthorized,
				"You are not signed in. Sign in to the console; a program gives a key of its workspace (Authorization: Bearer …) that has not expired and may be used from where it is.")
		case err != nil:
			a.log.Error("a key could not be looked up", "err", err)
			_ = huma.WriteErr(h, ctx, http.StatusServiceUnavailable, "The database does not answer. Try again in a moment.")
		case len(c.Origins) > 0 && !fromForm(ctx, c.Origins):
			_ = huma.WriteErr(h, ctx, http.StatusForbidden, "This key is for forms on pages of other origins than this. A manager of the workspace adds them to the key.")
		case missing != "":
			a.auditRefused(ctx, c)
			_ = huma.WriteErr(h, ctx, http.StatusForbidden, missing)
		default:
			next(huma.WithValue(ctx, callerKey{}, c))
		}
	}
}

func (a *API) whoIs(ctx huma.Context) (account.Caller, error) {
	from := addressOf(ctx.RemoteAddr())
	if bearer, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		bearer = strings.TrimSpace(bearer)
		if account.IsKey(bearer) {
			return a.accounts.OfKey(ctx.Context(), bearer, from)
		}
		return a.accounts.OfSession(ctx.Context(), bearer, from)
	}
	if s := sessionOf(ctx); s != "" {
		return a.accounts.OfSession(ctx.Context(), s, from)
	}
	return account.Caller{}, store.ErrUnknownKey
}

// mostSilence is how long an answer is put off to somebody who was told to wait.
const mostSilence = 500 * time.Millisecond

// sessionOf returns the secret of the session that a request came with; "" for none.
func sessionOf(ctx huma.Context) string {
	if bearer, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		return strings.TrimSpace(bearer)
	}
	for _, name := range []string{sealedCookie, sessionCookie} {
		if c, err := huma.ReadCookie(ctx, name); err == nil {
			return c.Value
		}
	}
	return ""
}

// Sender is where a request comes from.
type Sender struct {
	from    account.From
	session string
}

// Resolve takes note of where the request comes from.
func (s *Sender) Resolve(ctx huma.Context) []error {
	s.session = sessionOf(ctx)
	s.from = account.From{Addr: addressOf(ctx.RemoteAddr()), Agent: ctx.Header("User-Agent"), Origin: ctx.Header("Origin")}
	if c, err := huma.ReadCookie(ctx, deviceCookie); err == nil {
		s.from.Device = c.Value
	}
	if s.from.Origin == "" && overTLS(ctx.Context()) {
		s.from.Origin = "https://" + ctx.Host()
	}
	return nil
}

// sealed reports whether the browser reached the service over TLS.
func (s *Sender) sealed() bool { return strings.HasPrefix(s.from.Origin, "https://") }

// cookies are those of somebody who is signed in.
func (s *Sender) cookies(session, device string) []http.Cookie {
	name := sessionCookie
	if s.sealed() {
		name = sealedCookie
	}
	return []http.Cookie{s.cookie(name, session, store.SessionLife), s.cookie(deviceCookie, device, deviceLife)}
}

// gone are the cookies of somebody who is signed out.
func (s *Sender) gone() []http.Cookie {
	out := []http.Cookie{s.cookie(sessionCookie, "", -time.Second)}
	if s.sealed() {
		out = append(out, s.cookie(sealedCookie, "", -time.Second))
	}
	return out
}

func (s *Sender) cookie(name, value string, life time.Duration) http.Cookie {
	return http.Cookie{Name: name, Value: value, Path: "/", MaxAge: int(life.Seconds()), HttpOnly: true, Secure: s.sealed(), SameSite: http.SameSiteStrictMode}
}

// signedOut is the answer to somebody who is not signed in any more.
type signedOut struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
}

type sessionBody struct{ Body contract.Session }

func (a *API) registerSessions(h huma.API) {
	huma.Register(h, operation("get-session", http.MethodGet, "/session", "Who calls, and what they may do"), a.session)
	huma.Register(h, operation("sign-out", http.MethodDelete, "/session", "Sign out"), a.signOut)
	huma.Register(h, noContent(operation("confirm", http.MethodPost, "/session/confirm", "Prove that it is you before what needs it")), a.confirm)
	huma.Register(h, operation("send-confirmation-code", http.MethodPost, "/session/confirm/letter", "Have a code sent by which you prove that it is you"), a.sendConfirmation)
	huma.Register(h, operation("enter-workspace", http.MethodPut, "/session/workspace", "Work in another of your workspaces"), a.enterWorkspace)
	huma.Register(h, noContent(operation("end-guide", http.MethodDelete, "/guide", "Hide the first steps")), a.endGuide)
	huma.Register(h, creates(operation("make-workspace", http.MethodPost, "/workspaces", "Make a workspace of your own, and work in it")), a.makeWorkspace)
}

// noContent describes an operation that answers with nothing.
func noContent(op huma.Operation) huma.Operation {
	op.DefaultStatus = http.StatusNoContent
	return op
}

func (a *API) session(ctx context.Context, _ *struct{}) (*sessionBody, error) {
	b, err := a.sessionBody(ctx, callerOf(ctx))
	return &sessionBody{b}, err
}

func (a *API) sessionBody(ctx context.Context, c account.Caller) (contract.Session, error) {
	b := contract.Session{Workspace: c.Workspace, WorkspaceID: c.WorkspaceID, Scopes: account.Names(c.Scopes), Keeper: c.May(account.Installation), Role: string(c.Role),
		Demanded: c.Demanded, Workspaces: []contract.Membership{}}
	if c.PersonID == 0 {
		return b, nil
	}
	b.Person = &contract.Who{ID: c.PersonID, Name: c.Name, Address: c.Address}
	in, err := a.store.Memberships(ctx, c.PersonID)
	if err != nil {
		return b, a.failed(ctx, err)
	}
	new := false
	b.Workspaces = contract.Each(in, func(m store.Membership) contract.Membership {
		if m.WorkspaceID == c.WorkspaceID {
			b.DeleteAt, new = m.DeleteAt, !m.Guided
		}
		return contract.Membership{ID: m.WorkspaceID, Name: m.Name, Role: m.Role}
	})
	if new {
		g, err := a.store.Guide(ctx, c.WorkspaceID)
		if err != nil {
			return b, a.failed(ctx, err)
		}
		b.Guide = &contract.Guide{ListID: g.List, RunID: g.Run}
	}
	return b, nil
}

func (a *API) endGuide(ctx context.Context, _ *struct{}) (*struct{}, error) {
	return nil, a.failed(ctx, a.store.EndGuide(ctx, workspace(ctx).ID))
}

func (a *API) signOut(ctx context.Context, in *struct{ Sender }) (*signedOut, error) {
	if err := a.store.EndSession(ctx, in.session); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &signedOut{in.gone()}, nil
}

func (a *API) confirm(ctx context.Context, in *struct {
	Sender
	Body contract.Confirmation
}) (*struct{}, error) {
	c, b := callerOf(ctx), in.Body
	var err error
	switch {
	case b.Credential != nil:
		err = a.accounts.ConfirmByPasskey(ctx, c, b.Ticket, jsonOf(b.Credential), in.from)
	case b.Ticket != "":
		err = a.accounts.ConfirmByCode(ctx, c, b.Ticket, b.Code, in.from)
	default:
		err = a.accounts.Confirm(ctx, c, b.Password, b.Code, in.from)
	}
	return nil, a.failed(ctx, err)
}

func (a *API) sendConfirmation(ctx context.Context, in *struct{ Sender }) (*stepOutput, error) {
	return a.step(ctx, &in.Sender)(a.accounts.ConfirmByLetter(ctx, callerOf(ctx), in.from))
}

func (a *API) enterWorkspace(ctx context.Context, in *struct{ Body contract.WorkspaceChoice }) (*sessionBody, error) {
	if err := a.accounts.Enter(ctx, callerOf(ctx), in.Body.WorkspaceID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.sessionAgain(ctx, in.Body.WorkspaceID)
}

// sessionAgain is the session as it is after a change of the workspace.
func (a *API) sessionAgain(ctx context.Context, workspace int64) (*sessionBody, error) {
	c := callerOf(ctx)
	in, err := a.store.Memberships(ctx, c.PersonID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	t, err := a.store.Team(ctx, workspace)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	for _, m := range in {
		if m.WorkspaceID == workspace {
			c.WorkspaceID, c.Workspace, c.Role = m.WorkspaceID, m.Name, account.Role(m.Role)
		}
	}
	c.Scopes = c.ScopesIn(t.SecondFactor, t.ReadersExport)
	c.Demanded = t.SecondFactor && !c.HasFactor
	b, err := a.sessionBody(ctx, c)
	return &sessionBody{b}, err
}

func (a *API) makeWorkspace(ctx context.Context, in *struct{ Body contract.WorkspaceName }) (*sessionBody, error) {
	t, err := a.accounts.NewWorkspace(ctx, callerOf(ctx), in.Body.Name)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.sessionAgain(ctx, t.ID)
}

// inConsole keeps where somebody goes on within the console: a path of it, of no other host.
func inConsole(to string) string {
	u, err := url.Parse(to)
	if err != nil || u.IsAbs() || u.Host != "" || !strings.HasPrefix(to, "/") || strings.HasPrefix(to, "//") || strings.ContainsAny(to, "\\\r\n") {
		return "/lists"
	}
	return to
}

package api

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/account"
	"varnet/internal/contract"
	"varnet/internal/letter"
	"varnet/internal/store"
)

// stepOutput is how far somebody is on the way in, with the cookies of who is there.
type stepOutput struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      contract.Step
}

// step makes the answer of a step, and tells the audit trail who it was.
func (a *API) step(ctx context.Context, s *Sender) func(account.Step, error) (*stepOutput, error) {
	return func(step account.Step, err error) (*stepOutput, error) {
		noteOf(ctx).person = step.Person
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		out := &stepOutput{Body: contract.Step{Next: string(step.Next), Ticket: step.Ticket, Says: step.Says}}
		if step.Session != "" {
			out.SetCookie = s.cookies(step.Session, step.Device)
		}
		return out, nil
	}
}

func jsonOf(v any) []byte {
	text, _ := json.Marshal(v) // it was read from JSON
	return text
}

func (a *API) registerSignIn(h huma.API) {
	post := func(id, path, summary string) huma.Operation { return operation(id, http.MethodPost, path, summary) }
	huma.Register(h, operation("get-ways-in", http.MethodGet, "/sign-in", "How people can sign in and sign up here"), a.waysIn)
	huma.Register(h, post("sign-in", "/sign-in/password", "Sign in with address and password"), a.signIn)
	huma.Register(h, post("send-sign-in-code", "/sign-in/code", "Have a code sent, to sign in by it"), a.sendSignInCode)
	huma.Register(h, post("enter-code", "/sign-in/code/confirm", "Go on with the code of a letter"), a.enterCode)
	huma.Register(h, post("enter-second-factor", "/sign-in/second-factor", "Go on with a code of the second factor, or one for recovery"), a.enterFactor)
	huma.Register(h, post("send-forgotten-code", "/sign-in/forgotten", "Have a code sent, to choose a new password by it"), a.sendForgotten)
	huma.Register(h, post("reset-password", "/sign-in/new-password", "Choose a new password after the code; all sessions end"), a.resetPassword)
	huma.Register(h, post("ask-passkey", "/sign-in/passkey/options", "What a browser is asked for a passkey"), a.askPasskey)
	huma.Register(h, post("sign-in-by-passkey", "/sign-in/passkey", "Sign in with a passkey"), a.signInByPasskey)
	huma.Register(h, redirects(operation("go-to-provider", http.MethodGet, "/sign-in/provider", "Go to the installation's sign-in provider")), a.goToProvider)
	huma.Register(h, redirects(operation("come-from-provider", http.MethodGet, "/sign-in/provider/back", "Come back from the sign-in provider")), a.comeFromProvider)
	huma.Register(h, post("sign-in-to-demo", "/sign-in/demo", "Sign in as the person of the demo"), a.signInToDemo)
	huma.Register(h, post("sign-up", "/sign-up", "Sign up; a code is sent to the address"), a.signUp)
	huma.Register(h, post("begin-installation", "/sign-up/owner", "Become an owner of the installation by the one-time link"), a.beginInstallation)
	huma.Register(h, post("look-at-invitation", "/invitations/look", "What an invitation is to"), a.lookAtInvitation)
	huma.Register(h, post("join-by-invitation", "/invitations/join", "Sign up by an invitation"), a.joinByInvitation)
	huma.Register(h, noContent(post("decline-invitation", "/invitations/decline", "Decline an invitation")), a.declineInvitation)
	huma.Register(h, post("ask-in", "/devices", "Begin to let a device in that has no browser (RFC 8628)"), a.askIn)
	huma.Register(h, post("await-device", "/devices/session", "Whether the device was let in"), a.awaitDevice)
}

// redirects describes an operation that sends a browser elsewhere.
func redirects(op huma.Operation) huma.Operation {
	op.DefaultStatus = http.StatusSeeOther
	return op
}

func (a *API) waysIn(ctx context.Context, in *struct{ Sender }) (*struct{ Body contract.WaysIn }, error) {
	i, err := a.store.Installation(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	_, err = a.letters.Settings(ctx)
	if err != nil && err != letter.ErrNone {
		return nil, a.failed(ctx, err)
	}
	w := contract.WaysIn{SignUp: i.SignUp, Letters: err == nil, Provider: i.ProviderName}
	if a.accounts.Demo != "" && in.from.Addr.IsLoopback() {
		p, err := a.store.PersonAt(ctx, a.accounts.Demo)
		if err == nil {
			w.Demo = p.Name
		}
	}
	return &struct{ Body contract.WaysIn }{w}, nil
}

// aboutAddress tells the audit trail which address a request is about.
func (a *API) aboutAddress(ctx context.Context, addr string) {
	noteOf(ctx).address = a.accounts.Fingerprint(addr)
}

func (a *API) signIn(ctx context.Context, in *struct {
	Sender
	Body contract.AddressAndPassword
}) (*stepOutput, error) {
	a.aboutAddress(ctx, in.Body.Address)
	return a.step(ctx, &in.Sender)(a.accounts.WithPassword(ctx, in.Body.Address, in.Body.Password, in.from))
}

type addressInput struct {
	Sender
	Body contract.AccountAddress
}

func (a *API) sendSignInCode(ctx context.Context, in *addressInput) (*stepOutput, error) {
	a.aboutAddress(ctx, in.Body.Address)
	return a.step(ctx, &in.Sender)(a.accounts.ByCode(ctx, in.Body.Address, in.from))
}

func (a *API) sendForgotten(ctx context.Context, in *addressInput) (*stepOutput, error) {
	a.aboutAddress(ctx, in.Body.Address)
	return a.step(ctx, &in.Sender)(a.accounts.Forgotten(ctx, in.Body.Address, in.from))
}

type codeInput struct {
	Sender
	Body contract.TicketAndCode
}

func (a *API) enterCode(ctx context.Context, in *codeInput) (*stepOutput, error) {
	return a.step(ctx, &in.Sender)(a.accounts.Code(ctx, in.Body.Ticket, in.Body.Code, in.from))
}

func (a *API) enterFactor(ctx context.Context, in *codeInput) (*stepOutput, error) {
	return a.step(ctx, &in.Sender)(a.accounts.Factor(ctx, in.Body.Ticket, in.Body.Code, in.from))
}

func (a *API) resetPassword(ctx context.Context, in *struct {
	Sender
	Body contract.TicketAndPassword
}) (*stepOutput, error) {
	return a.step(ctx, &in.Sender)(a.accounts.ResetPassword(ctx, in.Body.Ticket, in.Body.Password, in.from))
}

type questionOutput struct{ Body contract.PasskeyQuestion }

func (a *API) askPasskey(ctx context.Context, in *struct{ Sender }) (*questionOutput, error) {
	options, ticket, err := a.accounts.AskPasskey(ctx, in.from)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &questionOutput{contract.PasskeyQuestion{Ticket: ticket, Options: options}}, nil
}

func (a *API) signInByPasskey(ctx context.Context, in *struct {
	Sender
	Body contract.PasskeyAnswer
}) (*stepOutput, error) {
	return a.step(ctx, &in.Sender)(a.accounts.WithPasskey(ctx, in.Body.Ticket, jsonOf(in.Body.Credential), in.from))
}

func (a *API) signInToDemo(ctx context.Context, in *struct{ Sender }) (*stepOutput, error) {
	return a.step(ctx, &in.Sender)(a.accounts.AsDemo(ctx, in.from))
}

func (a *API) signUp(ctx context.Context, in *struct {
	Sender
	Body contract.Newcomer
}) (*stepOutput, error) {
	a.aboutAddress(ctx, in.Body.Address)
	return a.step(ctx, &in.Sender)(a.accounts.SignUp(ctx, account.Newcomer(in.Body), in.from))
}

func (a *API) beginInstallation(ctx context.Context, in *struct {
	Sender
	Body contract.FirstOwner
}) (*stepOutput, error) {
	return a.step(ctx, &in.Sender)(a.accounts.Begin(ctx, in.Body.Link, account.Newcomer(in.Body.Newcomer), in.from))
}

type linkInput struct{ Body contract.InvitationLink }

func (a *API) lookAtInvitation(ctx context.Context, in *linkInput) (*struct{ Body contract.Invitation }, error) {
	i, err := a.accounts.Look(ctx, in.Body.Invitation)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Invitation }{invitationBody(i)}, nil
}

func invitationBody(i store.Invitation) contract.Invitation {
	b := contract.Invitation{ID: i.ID, Workspace: i.Workspace, Address: i.Address, Role: i.Role, Says: account.Role(i.Role).Says(), ExpiresAt: i.ExpiresAt}
	if i.InvitedBy != nil {
		b.InvitedBy = *i.InvitedBy
	}
	return b
}

func (a *API) joinByInvitation(ctx context.Context, in *struct {
	Sender
	Body contract.Joining
}) (*stepOutput, error) {
	return a.step(ctx, &in.Sender)(a.accounts.Join(ctx, in.Body.Invitation, account.Newcomer{Name: in.Body.Name, Password: in.Body.Password}, in.from))
}

func (a *API) declineInvitation(ctx context.Context, in *linkInput) (*struct{}, error) {
	return nil, a.failed(ctx, a.accounts.Decline(ctx, in.Body.Invitation))
}

// redirect sends a browser elsewhere.
type redirect struct {
	Location  string        `header:"Location"`
	SetCookie []http.Cookie `header:"Set-Cookie"`
}

// providerCookie keeps the ticket of somebody who went to the provider. It comes back with
// them, from another site, and so is not as strict as the others.
const (
	providerCookie = "varnet_provider"
	providerPath   = "/api/v1/sign-in/provider"
)

func (s *Sender) providerCookie(ticket string, life time.Duration) http.Cookie {
	c := s.cookie(providerCookie, ticket, life)
	c.Path, c.SameSite = providerPath, http.SameSiteLaxMode
	return c
}

func (a *API) goToProvider(ctx context.Context, in *struct {
	Sender
	To         string `query:"to" maxLength:"1000" doc:"The page of the console to go on to."`
	Invitation string `query:"invitation" maxLength:"100" doc:"The invitation to sign up by."`
}) (*redirect, error) {
	to, ticket, err := a.accounts.ToProvider(ctx, inConsole(in.To), in.Invitation)
	if err != nil {
		return a.troubled(ctx, err)
	}
	return &redirect{to, []http.Cookie{in.providerCookie(ticket, 10*time.Minute)}}, nil
}

// troubled sends a browser back to the page for signing in, with what went wrong.
func (a *API) troubled(ctx context.Context, err error) (*redirect, error) {
	told := a.failed(ctx, err)
	why := "Something went wrong. Try again."
	if p, ok := told.(*huma.ErrorModel); ok && p.Status < 500 {
		why = p.Detail
	}
	noteOf(ctx).refused = true
	return &redirect{Location: "/sign-in#" + url.Values{"trouble": {why}}.Encode()}, nil
}

func (a *API) comeFromProvider(ctx context.Context, in *struct {
	Sender
	Ticket  string `cookie:"varnet_provider" doc:"The ticket that the browser went with."`
	State   string `query:"state" maxLength:"200" doc:"The state that it went with."`
	Code    string `query:"code" maxLength:"4000" doc:"The code of the provider."`
	Issuer  string `query:"iss" maxLength:"300" doc:"The issuer (RFC 9207)."`
	Trouble string `query:"error" maxLength:"200" doc:"Why the provider did not let somebody through."`
	Words   string `query:"error_description" maxLength:"2000" doc:"The same in words; not shown."`
	About   string `query:"error_uri" maxLength:"2000" doc:"A page about it; not shown."`
	Session string `query:"session_state" maxLength:"1000" doc:"Not used."`
	Scope   string `query:"scope" maxLength:"1000" doc:"Not used."`
}) (*redirect, error) {
	step, to, err := a.accounts.FromProvider(ctx, in.Ticket, account.Back{State: in.State, Code: in.Code, Issuer: in.Issuer, Trouble: in.Trouble}, in.from)
	noteOf(ctx).person = step.Person
	if err != nil {
		return a.troubled(ctx, err)
	}
	out := &redirect{Location: to, SetCookie: []http.Cookie{in.providerCookie("", -time.Second)}}
	if step.Next == account.EnterFactor {
		out.Location = "/sign-in#" + url.Values{"ticket": {step.Ticket}, "to": {to}}.Encode()
		return out, nil
	}
	out.SetCookie = append(out.SetCookie, in.cookies(step.Session, step.Device)...)
	return out, nil
}

func (a *API) askIn(ctx context.Context, in *struct{ Sender }) (*struct{ Body contract.DeviceGrant }, error) {
	secret, code, until, err := a.accounts.AskIn(ctx, in.from)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	base := ""
	if s, err := a.letters.Settings(ctx); err == nil {
		base = s.BaseURL
	}
	return &struct{ Body contract.DeviceGrant }{contract.DeviceGrant{Secret: secret, Code: code, URL: base + "/device", URLWhole: base + "/device?code=" + url.QueryEscape(code),
		ExpiresAt: until, Interval: int(account.DeviceWait / time.Second)}}, nil
}

func (a *API) awaitDevice(ctx context.Context, in *struct {
	Sender
	Body contract.DeviceSecret
}) (*struct{ Body contract.DeviceState }, error) {
	step, err := a.accounts.IsIn(ctx, in.Body.Secret, in.from)
	b := contract.DeviceState{State: "in", Token: step.Session}
	switch {
	case err == account.ErrWaiting:
		b.State = "waiting"
	case err == account.ErrTooSoon:
		b.State = "too-soon"
	case err != nil:
		return nil, a.failed(ctx, err)
	}
	noteOf(ctx).person, noteOf(ctx).silent = step.Person, step.Person == 0
	return &struct{ Body contract.DeviceState }{b}, nil
}

package api

import (
	"context"
	"encoding/json"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/oauth2"

	"varnet/internal/connect/recipe"
	"varnet/internal/contract"
	"varnet/internal/store"
)

// signingIn is what a ticket holds of somebody who signs in at a place.
type signingIn struct {
	Connection, Workspace, Person int64
	Redirect, Verifier            string
}

const (
	ticketPlace  = "place"
	signedInPath = "/connections/signed-in"
	signInTime   = 15 * time.Minute
)

// Hosted takes hold of the host that a request was sent to.
type Hosted struct{ host string }

// Resolve implements huma.Resolver.
func (h *Hosted) Resolve(ctx huma.Context) []error {
	h.host = ctx.Host()
	return nil
}

func (a *API) goToPlace(ctx context.Context, in *struct {
	ByID
	Hosted
	Body contract.SignInAt
}) (*struct{ Body contract.SignInPage }, error) {
	c, place, err := a.at(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	defer place.Close()
	back, err := url.Parse(in.Body.Origin)
	if err != nil || back.Host != in.host || back.Scheme != "https" && back.Scheme != "http" {
		return nil, huma.Error422UnprocessableEntity("The console's address is not the one that it was asked at.", &huma.ErrorDetail{Location: "body.origin", Message: "this is another host", Value: in.Body.Origin})
	}
	p, ok := place.(*recipe.Place)
	s := signingIn{Connection: c.ID, Workspace: c.WorkspaceID, Person: callerOf(ctx).PersonID, Redirect: back.Scheme + "://" + back.Host + signedInPath, Verifier: oauth2.GenerateVerifier()}
	if !ok || p.Authorize("", "", "") == "" {
		return nil, huma.Error409Conflict("At this place nobody signs in; it is connected by a key or password.")
	}
	text, _ := json.Marshal(s) // numbers and texts
	ticket, err := a.store.NewTicket(ctx, store.Ticket{Kind: ticketPlace, Data: a.engine.Secrets.Seal(string(text), ticketPlace), ExpiresAt: time.Now().Add(signInTime)})
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.SignInPage }{contract.SignInPage{URL: p.Authorize(s.Redirect, ticket, s.Verifier)}}, nil
}

func (a *API) comeFromPlace(ctx context.Context, in *struct{ Body contract.SignedIn }) (*connectionOutput, error) {
	var s signingIn
	t, err := a.store.TakeTicket(ctx, ticketPlace, in.Body.State)
	if err == nil {
		var text string
		if text, err = a.engine.Secrets.Open(t.Data, ticketPlace); err == nil {
			err = json.Unmarshal([]byte(text), &s)
		}
	}
	caller := callerOf(ctx)
	if err != nil || s.Workspace != caller.WorkspaceID || s.Person != caller.PersonID {
		return nil, huma.Error409Conflict("This sign-in took too long, was used before, or was begun by somebody else. Begin it again.")
	}
	if in.Body.Code == "" {
		return nil, huma.Error409Conflict("The place did not let Varnet in. Begin again, and allow it there.")
	}
	c, place, err := a.at(ctx, s.Connection)
	if err != nil {
		return nil, err
	}
	defer place.Close()
	p, ok := place.(*recipe.Place)
	if !ok {
		return nil, huma.Error409Conflict("The connection leads elsewhere by now. Begin again.")
	}
	token, err := p.Exchange(ctx, s.Redirect, in.Body.Code, s.Verifier)
	if err != nil {
		return nil, a.placeFailed(ctx, c, err)
	}
	if c, err = a.store.ChangeConnection(ctx, c.WorkspaceID, c.ID, func(c *store.Connection) error { return a.engine.Connections.SetSecret(c, "token", token) }); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.tested(ctx, c)
}

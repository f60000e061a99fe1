package api

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/problem"
	"varnet/internal/bounce"
	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerBounceSources(h huma.API) {
	huma.Register(h, operation("get-bounce-sources", http.MethodGet, "/bounce-sources", "Where what comes back is read"), a.bounceSources)
	huma.Register(h, creates(operation("make-bounce-source", http.MethodPost, "/bounce-sources", "Read a mailbox, or let a program call")), a.makeBounceSource)
	huma.Register(h, operation("change-bounce-source", http.MethodPut, "/bounce-sources/{id}", "Change how a mailbox is read"), a.changeBounceSource)
	huma.Register(h, operation("delete-bounce-source", http.MethodDelete, "/bounce-sources/{id}", "Stop reading a mailbox, or taking a program's calls"), a.deleteBounceSource)
	huma.Register(h, operation("read-bounce-source", http.MethodPost, "/bounce-sources/{id}/read", "Read a mailbox now"), a.readBounceSource)
	call := operation("call-bounce-source", http.MethodPost, "/bounce-sources/{id}/call", "Tell what came back, by a signed call")
	call.RequestBody = &huma.RequestBody{Required: true, Description: "Outcomes as JSON (an object, an array of objects, or one a line), or a message (RFC 5322).", Content: fileBody.Content}
	huma.Register(h, call, a.callBounceSource)
}

func bounceSourceBody(b store.BounceSource) contract.BounceSource {
	out := contract.BounceSource{ID: b.ID, Kind: b.Kind, Name: b.Name, Host: b.Host, Port: b.Port, Security: b.Security, Username: b.Username, Folder: b.Folder, Then: b.Then, ThenFolder: b.ThenFolder,
		Messages: b.Messages, LookedAt: b.LookedAt, Failing: b.FailingSince != nil, Says: cmp.Or(b.Says, "Not read yet."), By: b.ByWhom, CreatedAt: b.CreatedAt}
	if b.Kind == store.SourceWebhook {
		out.Path = fmt.Sprintf("/api/v1/bounce-sources/%d/call", b.ID)
		out.Says = cmp.Or(b.Says, "Not called yet.")
	}
	return out
}

func (a *API) bounceSources(ctx context.Context, _ *struct{}) (*pageOutput[contract.BounceSource], error) {
	found, err := a.store.BounceSources(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, bounceSourceBody)), nil
}

// readAs returns a source that is read as a mailbox says.
func readAs(b store.BounceSource, m contract.BounceMailbox) store.BounceSource {
	b.Kind, b.Host, b.Port, b.Security, b.Username = store.SourceMailbox, m.Host, m.Port, m.Security, m.Username
	b.Folder, b.Then, b.ThenFolder = cmp.Or(m.Folder, "INBOX"), cmp.Or(m.Then, store.ThenFlag), m.ThenFolder
	return b
}

func (a *API) makeBounceSource(ctx context.Context, in *struct{ Body contract.NewBounceSource }) (*made[contract.BounceSource], error) {
	b, password := store.BounceSource{WorkspaceID: workspace(ctx).ID, Kind: store.SourceWebhook, Name: in.Body.Name, ByWhom: whose(ctx)}, ""
	if m := in.Body.Mailbox; m != nil {
		b = readAs(b, *m)
		if m.Password != nil {
			password = *m.Password
		}
	}
	secret, err := a.engine.Sources.Add(ctx, &b, password)
	if err != nil {
		return nil, a.sourceProblem(ctx, err)
	}
	out := bounceSourceBody(b)
	out.Secret = secret
	return &made[contract.BounceSource]{Body: out}, nil
}

type bounceSourceOutput struct{ Body contract.BounceSource }

func (a *API) changeBounceSource(ctx context.Context, in *struct {
	ByID
	Body contract.NewBounceSource
}) (*bounceSourceOutput, error) {
	b, err := a.store.BounceSource(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if (in.Body.Mailbox != nil) != (b.Kind == store.SourceMailbox) {
		return nil, huma.Error409Conflict("A mailbox stays a mailbox, and a webhook a webhook. Make another source.")
	}
	var password *string
	b.Name = in.Body.Name
	if m := in.Body.Mailbox; m != nil {
		b, password = readAs(b, *m), m.Password
	}
	if err := a.engine.Sources.Change(ctx, b, password); err != nil {
		return nil, a.sourceProblem(ctx, err)
	}
	return a.bounceSource(ctx, b.ID)
}

func (a *API) bounceSource(ctx context.Context, id int64) (*bounceSourceOutput, error) {
	b, err := a.store.BounceSource(ctx, workspace(ctx).ID, id)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &bounceSourceOutput{bounceSourceBody(b)}, nil
}

func (a *API) deleteBounceSource(ctx context.Context, in *ByID) (*struct{}, error) {
	if err := a.store.DeleteBounceSource(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

// For how long it is waited for a look that goes on, and how often it is asked.
const (
	lookWait  = 30 * time.Second
	lookAgain = 250 * time.Millisecond
)

func (a *API) readBounceSource(ctx context.Context, in *ByID) (*bounceSourceOutput, error) {
	b, err := a.store.BounceSource(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if b.Kind != store.SourceMailbox {
		return nil, huma.Error409Conflict("A program calls this source; there is nothing to read.")
	}
	for end := time.Now().Add(lookWait); ; {
		now, err := a.engine.Sources.Look(ctx, b)
		switch {
		case err == nil:
			return &bounceSourceOutput{bounceSourceBody(now)}, nil
		case !errors.Is(err, bounce.ErrLooking):
			return nil, a.failed(ctx, err)
		case time.Now().After(end):
			return nil, huma.Error409Conflict("It is being read already. See what it brings.")
		}
		select {
		case <-ctx.Done():
			return nil, a.failed(ctx, ctx.Err())
		case <-time.After(lookAgain):
		}
	}
}

// signedCall is a call whose body is signed.
type signedCall struct {
	Streamed
	header http.Header
}

// Resolve takes hold of headers and body.
func (s *signedCall) Resolve(ctx huma.Context) []error {
	s.header = http.Header{}
	ctx.EachHeader(func(name, value string) { s.header.Add(name, value) })
	return s.Streamed.Resolve(ctx)
}

func (a *API) callBounceSource(ctx context.Context, in *struct {
	ByID
	signedCall
}) (*struct {
	Body contract.ImportedBounces
}, error) {
	body, err := io.ReadAll(io.LimitReader(in.body, bounce.MostCall+1))
	if err != nil {
		return nil, a.broken(ctx, err)
	}
	if len(body) > bounce.MostCall {
		return nil, huma.Error413RequestEntityTooLarge(fmt.Sprintf("A call holds at most %d MB.", bounce.MostCall>>20))
	}
	t, err := a.engine.Sources.Called(ctx, in.ID, in.header, body, func(ctx context.Context, b store.BounceSource) (bounce.Imported, error) {
		if text := bytes.TrimSpace(body); bytes.HasPrefix(text, []byte("{")) || bytes.HasPrefix(text, []byte("[")) {
			return a.outcomesIn(ctx, b.WorkspaceID, bytes.NewReader(body), bounce.ByCall, guessed, nil)
		}
		next, err := bounce.Messages(bytes.NewReader(body))
		if err != nil {
			return bounce.Imported{}, err
		}
		return a.engine.Bounces.Import(ctx, b.WorkspaceID, bounce.ByCall, bounce.InFile(next))
	})
	switch {
	case errors.Is(err, bounce.ErrUnsigned):
		return nil, huma.Error401Unauthorized("The call is not signed by the secret of this source. Sign it as Standard Webhooks say: webhook-id, webhook-timestamp and webhook-signature.")
	case err != nil:
		return nil, a.broken(ctx, err)
	}
	return &struct{ Body contract.ImportedBounces }{importedBody(t)}, nil
}

// sourceProblem tells a setting that cannot be.
func (a *API) sourceProblem(ctx context.Context, err error) error {
	var wrong *problem.Field
	if errors.As(err, &wrong) {
		at := "body.mailbox."
		if wrong.Name == "name" {
			at = "body."
		}
		return huma.Error422UnprocessableEntity("One of the settings cannot be.", &huma.ErrorDetail{Location: at + wrong.Name, Message: wrong.Why})
	}
	return a.failed(ctx, err)
}

package api

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerLinks(h huma.API) {
	huma.Register(h, creates(operation("make-link", http.MethodPost, "/runs/{id}/links", "Make a link from which a tool fetches a file of a run")), a.makeLink)
	huma.Register(h, operation("get-links", http.MethodGet, "/runs/{id}/links", "The valid links of a run, the newest first"), a.links)
	huma.Register(h, operation("delete-link", http.MethodDelete, "/links/{id}", "Delete a link"), a.deleteLink)
	follow := operation("follow-link", http.MethodGet, "/files/{secret}", "The file of a link")
	follow.Responses = fileResponse("text/csv")
	huma.Register(h, follow, a.followLink)
}

func linkBody(l store.Link) contract.Link {
	return contract.Link{ID: l.ID, RunID: l.RunID, Decision: l.Decision, Form: l.Form, Format: l.Format, By: l.ByWhom, ExpiresAt: l.ExpiresAt, Fetched: l.Fetched, FetchedAt: l.FetchedAt}
}

// mostLinks is how many links of a run are good at once.
const mostLinks = 100

func (a *API) makeLink(ctx context.Context, in *struct {
	ByID
	Body contract.NewLink
}) (*made[contract.Link], error) {
	w := workspace(ctx).ID
	if _, err := a.store.Run(ctx, w, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	there, err := a.store.Links(ctx, w, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if len(there) >= mostLinks {
		return nil, huma.Error409Conflict(fmt.Sprintf("A run has at most %d links; delete one first.", mostLinks))
	}
	l := store.Link{WorkspaceID: w, RunID: in.ID, Decision: in.Body.Decision, Form: in.Body.Form, Format: in.Body.Format, ByWhom: whose(ctx), ExpiresAt: time.Now().AddDate(0, 0, in.Body.Days)}
	secret, err := a.store.NewLink(ctx, &l)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := linkBody(l)
	out.Path = "/api/v1/files/" + secret
	return &made[contract.Link]{fmt.Sprintf("/api/v1/links/%d", l.ID), out}, nil
}

func (a *API) links(ctx context.Context, in *ByID) (*pageOutput[contract.Link], error) {
	w := workspace(ctx).ID
	if _, err := a.store.Run(ctx, w, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	found, err := a.store.Links(ctx, w, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, linkBody)), nil
}

func (a *API) deleteLink(ctx context.Context, in *ByID) (*struct{}, error) {
	if err := a.store.DeleteLink(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

// followLink sends the file of a link to whoever has it.
func (a *API) followLink(ctx context.Context, in *struct {
	Secret string `path:"secret" minLength:"40" example:"0123456789abcdefghijklmnopqrstuvwxyzABCDEFG" maxLength:"50" doc:"The secret of the link."`
}) (*huma.StreamResponse, error) {
	l, err := a.store.FollowLink(ctx, in.Secret)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	e, err := a.exportIn(ctx, l.WorkspaceID, l.RunID, contract.ExportChoice{Decision: l.Decision, Form: l.Form, Format: l.Format})
	if err != nil {
		return nil, err
	}
	return a.stream(download{name: e.FileName(), kind: e.Kind(), tag: e.Tag(), write: func(out io.Writer) error { return e.Write(ctx, &a.summaries.Counted, out) }}), nil
}

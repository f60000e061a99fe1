package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
)

func (a *API) registerKeys(h huma.API) {
	huma.Register(h, operation("get-keys", http.MethodGet, "/keys", "The keys of the workspace, the oldest first"), a.keys)
	huma.Register(h, creates(operation("make-key", http.MethodPost, "/keys", "Make a key; it is shown this once")), a.makeKey)
	huma.Register(h, operation("delete-key", http.MethodDelete, "/keys/{id}", "Take a key back, with the console sessions that it opened"), a.deleteKey)
}

func (a *API) keys(ctx context.Context, _ *struct{}) (*pageOutput[contract.KnownKey], error) {
	found, err := a.store.Keys(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := make([]contract.KnownKey, len(found))
	for i, k := range found {
		out[i] = contract.KnownKey{ID: k.ID, Name: k.Name, CreatedAt: k.CreatedAt, Yours: k.ID == workspace(ctx).KeyID}
	}
	return whole(out), nil
}

func (a *API) makeKey(ctx context.Context, in *struct{ Body contract.NewKey }) (*made[contract.KnownKey], error) {
	k, text, err := a.store.NewKey(ctx, workspace(ctx).Name, in.Body.Name)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &made[contract.KnownKey]{fmt.Sprintf("/api/v1/keys/%d", k.ID), contract.KnownKey{ID: k.ID, Name: k.Name, CreatedAt: k.CreatedAt, Key: text}}, nil
}

func (a *API) deleteKey(ctx context.Context, in *ByID) (*struct{}, error) {
	if in.ID == workspace(ctx).KeyID {
		return nil, huma.Error409Conflict(fmt.Sprintf("You are signed in with key %d. Sign in with another one to take it back.", in.ID))
	}
	if err := a.store.DeleteKey(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

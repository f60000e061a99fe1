package api

import (
	"context"
	"fmt"
	"strings"

	"varnet/internal/connection"
	"varnet/internal/contract"
	"varnet/internal/store"
)

func importBody(i store.Import) contract.Import {
	b := contract.Import{ID: i.ID, ConnectionID: i.ConnectionID, Collection: i.Collection, Name: i.CollectionName, State: i.State, Contacts: i.Contacts, Expected: i.Expected, Says: i.Says, BegunAt: i.BegunAt, EndedAt: i.EndedAt}
	if i.ListID != nil {
		b.ListID = *i.ListID
	}
	if b.Says == "" {
		b.Says = connection.ImportSays(i)
	}
	return b
}

func (a *API) beginImport(ctx context.Context, in *struct {
	ByID
	Body contract.NewImport
}) (*made[contract.Import], error) {
	if err := a.roomForList(ctx); err != nil {
		return nil, a.failed(ctx, err)
	}
	c, place, err := a.at(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	defer place.Close()
	i := store.Import{WorkspaceID: c.WorkspaceID, ConnectionID: c.ID, Collection: in.Body.Collection, ListName: strings.TrimSpace(in.Body.Name)}
	if err := a.engine.ChooseCollection(ctx, place, &i); err != nil {
		return nil, a.placeFailed(ctx, c, err)
	}
	if err := a.engine.Collect(ctx, &i); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &made[contract.Import]{fmt.Sprintf("/api/v1/imports/%d", i.ID), importBody(i)}, nil
}

// importsShown is how many imports of a connection are shown.
const importsShown = 50

func (a *API) imports(ctx context.Context, in *ByID) (*pageOutput[contract.Import], error) {
	w := workspace(ctx).ID
	if _, err := a.store.Connection(ctx, w, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	found, err := a.store.Imports(ctx, w, in.ID, importsShown)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, importBody)), nil
}

func (a *API) importByID(ctx context.Context, in *ByID) (*struct{ Body contract.Import }, error) {
	i, err := a.store.Import(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Import }{importBody(i)}, nil
}

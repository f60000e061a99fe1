package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/catalogue"
	"varnet/internal/contract"
)

func (a *API) registerCatalogue(h huma.API) {
	huma.Register(h, operation("catalogue", http.MethodGet, "/catalogue", "The workspace's own entries; they count for what is brought in or checked from then on"), a.catalogue)
	add := operation("add-to-catalogue", http.MethodPost, "/catalogue", "Add entries of your own, all of them or none")
	add.MaxBodyBytes = maxCatalogueBody
	huma.Register(h, add, a.addToCatalogue)
	a.registerCatalogueSources(h)
	huma.Register(h, operation("try-catalogue", http.MethodPost, "/catalogue/try", "What entries would alter, without adding them"), a.tryCatalogue)
	huma.Register(h, operation("delete-from-catalogue", http.MethodDelete, "/catalogue/{kind}/{name}", "Take an entry of your own back"), a.deleteFromCatalogue)
}

// maxCatalogueBody is how large a body of entries may be.
const maxCatalogueBody = 32 << 20

type entriesOutput struct{ Body []contract.CatalogueEntry }

func (a *API) catalogue(ctx context.Context, _ *struct{}) (*entriesOutput, error) {
	entries, err := a.store.CatalogueEntries(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := &entriesOutput{Body: []contract.CatalogueEntry{}}
	for _, e := range entries {
		out.Body = append(out.Body, contract.CatalogueEntry{Kind: string(e.Kind), Name: e.Name, Except: e.Except})
	}
	return out, nil
}

func (a *API) addToCatalogue(ctx context.Context, in *struct{ Body contract.CatalogueEntries }) (*entriesOutput, error) {
	entries, err := normalEntries(in.Body.Entries)
	if err != nil {
		return nil, err
	}
	if err := a.store.SaveCatalogueEntries(ctx, workspace(ctx).ID, entries); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.catalogue(ctx, nil)
}

func (a *API) deleteFromCatalogue(ctx context.Context, in *struct {
	Kind string `path:"kind"`
	Name string `path:"name"`
}) (*struct{}, error) {
	name, err := catalogue.Normal(catalogue.Kind(in.Kind), in.Name)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if err := a.store.DeleteCatalogueEntry(ctx, workspace(ctx).ID, catalogue.Kind(in.Kind), name); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

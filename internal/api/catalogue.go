package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/catalogue"
	"varnet/internal/contract"
)

func (a *API) registerCatalogue(h huma.API) {
	huma.Register(h, operation("get-catalogue", http.MethodGet, "/catalogue", "The workspace's own entries; they count for what is imported or checked from then on"), a.catalogue)
	huma.Register(h, operation("get-shipped-catalogue", http.MethodGet, "/catalogue/shipped", "The entries of a catalogue that ships with Varnet"), a.shippedCatalogue)
	add := operation("add-to-catalogue", http.MethodPost, "/catalogue", "Add entries of your own, all of them or none")
	add.MaxBodyBytes = maxCatalogueBody
	huma.Register(h, add, a.addToCatalogue)
	a.registerCatalogueSources(h)
	huma.Register(h, operation("try-catalogue", http.MethodPost, "/catalogue/try", "What entries would alter, without adding them"), a.tryCatalogue)
	huma.Register(h, operation("delete-from-catalogue", http.MethodDelete, "/catalogue/{kind}/{name}", "Remove an entry of your own"), a.deleteFromCatalogue)
}

// maxCatalogueBody is how large a body of entries may be.
const maxCatalogueBody = 32 << 20

func (a *API) catalogue(ctx context.Context, in *struct {
	Cursor
	Limit
}) (*pageOutput[contract.CatalogueEntry], error) {
	var after catalogue.Entry
	if err := in.place(&after); err != nil {
		return nil, err
	}
	entries, err := a.store.CatalogueEntries(ctx, workspace(ctx).ID, after, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := contract.Each(entries, entryBody)
	return pageOf(out, in.Limit.Limit, func(e contract.CatalogueEntry) any {
		return catalogue.Entry{Kind: catalogue.Kind(e.Kind), Name: e.Name}
	}), nil
}

func (a *API) shippedCatalogue(ctx context.Context, in *struct {
	Cursor
	Limit
	Kind   string `query:"kind" required:"true" enum:"role,no-reply,disposable,free-mail,trap-name,trap-domain,trap-typo-domain" doc:"The catalogue."`
	Search string `query:"search" maxLength:"200" doc:"Only entries with this text in their name."`
}) (*pageOutput[contract.ShippedEntry], error) {
	after := ""
	if err := in.place(&after); err != nil {
		return nil, err
	}
	kind := catalogue.Kind(in.Kind)
	names := catalogue.Shipped(kind, strings.ToLower(strings.TrimSpace(in.Search)), after, in.Limit.Limit)
	counting, err := a.engine.Catalogue(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := contract.Each(names, func(name string) contract.ShippedEntry {
		return contract.ShippedEntry{Name: name, Counts: counting.Has(kind, name)}
	})
	return pageOf(out, in.Limit.Limit, func(e contract.ShippedEntry) any { return e.Name }), nil
}

func entryBody(e catalogue.Entry) contract.CatalogueEntry {
	return contract.CatalogueEntry{Kind: string(e.Kind), Name: e.Name, Except: e.Except}
}

func (a *API) addToCatalogue(ctx context.Context, in *struct{ Body contract.CatalogueEntries }) (*struct{ Body contract.CatalogueEntries }, error) {
	entries, err := normalEntries(in.Body.Entries)
	if err != nil {
		return nil, err
	}
	if err := a.store.SaveCatalogueEntries(ctx, workspace(ctx).ID, entries); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.CatalogueEntries }{contract.CatalogueEntries{Entries: contract.Each(entries, entryBody)}}, nil
}

func (a *API) deleteFromCatalogue(ctx context.Context, in *struct {
	Kind string `path:"kind" doc:"The catalogue: role, disposable and so on."`
	Name string `path:"name" doc:"The entry, in its normal form."`
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

package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/catalogue"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerCatalogueSources(h huma.API) {
	huma.Register(h, operation("get-catalogue-sources", http.MethodGet, "/catalogue/sources", "The catalogues that the workspace follows"), a.catalogueSources)
	huma.Register(h, creates(operation("follow-catalogue", http.MethodPost, "/catalogue/sources", "Follow a catalogue: it is read now and every day")), a.followCatalogue)
	huma.Register(h, operation("read-catalogue-source", http.MethodPost, "/catalogue/sources/{id}/read", "Read a catalogue that is followed now"), a.readCatalogueSource)
	huma.Register(h, operation("unfollow-catalogue", http.MethodDelete, "/catalogue/sources/{id}", "Follow a catalogue no longer; its entries cease to count"), a.unfollowCatalogue)
}

type sourceOutput struct{ Body contract.CatalogueSource }

func (a *API) catalogueSources(ctx context.Context, _ *struct{}) (*pageOutput[contract.CatalogueSource], error) {
	sources, err := a.store.CatalogueSources(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out := make([]contract.CatalogueSource, len(sources))
	for i, s := range sources {
		out[i] = sourceBody(s)
	}
	return whole(out), nil
}

func (a *API) followCatalogue(ctx context.Context, in *struct{ Body contract.NewCatalogueSource }) (*sourceOutput, error) {
	if err := a.engine.Follow.Check(in.Body.URL); err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	s, err := a.store.FollowCatalogue(ctx, workspace(ctx).ID, catalogue.Kind(in.Body.Kind), in.Body.URL)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.readSource(ctx, s)
}

func (a *API) readCatalogueSource(ctx context.Context, in *ByID) (*sourceOutput, error) {
	s, err := a.store.CatalogueSource(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.readSource(ctx, s)
}

func (a *API) readSource(ctx context.Context, s store.CatalogueSource) (*sourceOutput, error) {
	err := a.engine.ReadCatalogue(ctx, s)
	if err == nil {
		s, err = a.store.CatalogueSource(ctx, s.WorkspaceID, s.ID)
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &sourceOutput{sourceBody(s)}, nil
}

func (a *API) unfollowCatalogue(ctx context.Context, in *ByID) (*struct{}, error) {
	if err := a.store.UnfollowCatalogue(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

func sourceBody(s store.CatalogueSource) contract.CatalogueSource {
	return contract.CatalogueSource{ID: s.ID, Kind: string(s.Kind), URL: s.URL, Entries: s.Entries, Added: s.Added, Removed: s.Removed,
		ReadAt: s.ReadAt, ChangedAt: s.ChangedAt, Problem: s.Problem, Sentence: sourceSentence(s)}
}

// sourceSentence says what a source holds, what its last change was, and what is wrong.
func sourceSentence(s store.CatalogueSource) string {
	var text []string
	if s.ChangedAt != nil {
		text = append(text, fmt.Sprintf("%s; its last change added %s and removed %s.", say.Plural(int64(s.Entries), "entry", "entries"),
			say.Number(int64(s.Added)), say.Number(int64(s.Removed))))
	}
	if s.Problem != "" {
		text = append(text, "The last read failed: "+s.Problem+".")
	}
	return strings.Join(text, " ")
}

package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/problem"
	"varnet/core/say"
	"varnet/internal/connect"
	"varnet/internal/connect/kinds"
	"varnet/internal/connect/recipe"
	"varnet/internal/connection"
	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerConnections(h huma.API) {
	huma.Register(h, operation("get-connection-kinds", http.MethodGet, "/connection-kinds", "The kinds of places that connections lead to"), a.connectionKinds)
	huma.Register(h, operation("get-connections", http.MethodGet, "/connections", "The connections of the workspace, by name"), a.connections)
	huma.Register(h, creates(operation("make-connection", http.MethodPost, "/connections", "Make a connection; it is tested as it is saved")), a.makeConnection)
	huma.Register(h, operation("try-connection", http.MethodPost, "/connections/test", "Try settings out; nothing is kept"), a.tryConnection)
	huma.Register(h, operation("get-connection", http.MethodGet, "/connections/{id}", "One connection"), a.connectionByID)
	huma.Register(h, operation("change-connection", http.MethodPatch, "/connections/{id}", "Change the name or settings of a connection; it is tested"), a.changeConnection)
	huma.Register(h, operation("delete-connection", http.MethodDelete, "/connections/{id}", "Delete a connection; its lists stay, its journals go"), a.deleteConnection)
	huma.Register(h, operation("test-connection", http.MethodPost, "/connections/{id}/test", "Test a connection"), a.testConnection)
	huma.Register(h, operation("get-collections", http.MethodGet, "/connections/{id}/collections", "What a connection offers to import"), a.collections)
	huma.Register(h, operation("go-to-place", http.MethodPost, "/connections/{id}/sign-in", "Where to sign in at the place (OAuth 2.0)"), a.goToPlace)
	huma.Register(h, operation("come-from-place", http.MethodPost, "/connections/signed-in", "Keep the sign-in with which somebody came back from the place"), a.comeFromPlace)
	huma.Register(h, creates(operation("begin-import", http.MethodPost, "/connections/{id}/imports", "Import a collection")), a.beginImport)
	huma.Register(h, operation("get-imports", http.MethodGet, "/connections/{id}/imports", "The newest imports of a connection"), a.imports)
	huma.Register(h, operation("get-import", http.MethodGet, "/imports/{id}", "One import"), a.importByID)
	huma.Register(h, operation("try-recipe", http.MethodPost, "/recipes/test", "Try a recipe against an answer of the platform"), a.tryRecipe)
}

func connectionKindBody(k connect.Kind) contract.ConnectionKind {
	return contract.ConnectionKind{Code: k.Code, Title: k.Title, Says: k.Says, Files: k.Files, Takes: actsBody(k.Takes),
		Fields: contract.Each(k.Fields, func(f connect.Field) contract.ConnectionField { return contract.ConnectionField(f) })}
}

func actsBody(acts []connect.Act) []string {
	out := []string{}
	for _, a := range acts {
		out = append(out, string(a))
	}
	return out
}

func (a *API) connectionKinds(context.Context, *struct{}) (*pageOutput[contract.ConnectionKind], error) {
	return whole(contract.Each(kinds.All(), connectionKindBody)), nil
}

// connectionBody is a connection as it is shown: of its secrets, which there are.
func (a *API) connectionBody(c store.Connection) contract.Connection {
	b := contract.Connection{ID: c.ID, Name: c.Name, Kind: c.Kind, Settings: c.Settings, Secrets: append([]string{}, a.engine.Connections.Has(c)...), Works: c.BrokenAt == nil, Says: c.Says,
		TestedAt: c.TestedAt, MadeAt: c.CreatedAt, Takes: []string{}}
	place, err := a.engine.Connections.Open(c)
	if err != nil {
		return b
	}
	defer place.Close()
	b.Takes = actsBody(place.Takes())
	_, b.Files = place.(connect.FilePlace)
	if p, ok := place.(*recipe.Place); ok {
		b.SignIn = p.Authorize("", "", "") != ""
	}
	return b
}

func (a *API) connections(ctx context.Context, _ *struct{}) (*pageOutput[contract.Connection], error) {
	found, err := a.store.Connections(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, a.connectionBody)), nil
}

type connectionOutput struct{ Body contract.Connection }

func (a *API) connectionByID(ctx context.Context, in *ByID) (*connectionOutput, error) {
	c, err := a.store.Connection(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &connectionOutput{a.connectionBody(c)}, nil
}

// set has a connection be set to what was given; what of that cannot be is told where it stands.
func (a *API) set(ctx context.Context, c *store.Connection, settings map[string]string) error {
	err := a.engine.Connections.Set(c, settings)
	var wrong *problem.Field
	if errors.As(err, &wrong) {
		at := "body.settings." + wrong.Name
		if wrong.Name == "kind" {
			at = "body.kind"
		}
		return huma.Error422UnprocessableEntity("This connection will not work: "+wrong.Why+".", &huma.ErrorDetail{Location: at, Message: wrong.Why})
	}
	if err != nil {
		return a.failed(ctx, err)
	}
	return nil
}

// mostConnections is how many a workspace may have.
const mostConnections = 200

func (a *API) makeConnection(ctx context.Context, in *struct{ Body contract.NewConnection }) (*made[contract.Connection], error) {
	w := workspace(ctx).ID
	there, err := a.store.Connections(ctx, w)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if len(there) >= mostConnections {
		return nil, huma.Error409Conflict(fmt.Sprintf("A workspace has at most %d connections; delete one first.", mostConnections))
	}
	c := store.Connection{WorkspaceID: w, Name: strings.TrimSpace(in.Body.Name), Kind: in.Body.Kind}
	if err := a.set(ctx, &c, in.Body.Settings); err != nil {
		return nil, err
	}
	if err := a.test(ctx, &c); err != nil {
		return nil, err
	}
	if err := a.store.NewConnection(ctx, &c); err != nil {
		return nil, a.connectionTaken(ctx, c, err)
	}
	return &made[contract.Connection]{fmt.Sprintf("/api/v1/connections/%d", c.ID), a.connectionBody(c)}, nil
}

func (a *API) connectionTaken(ctx context.Context, c store.Connection, err error) error {
	if store.Taken(err) {
		return huma.Error409Conflict(fmt.Sprintf("There is a connection “%s” already. Choose another name.", c.Name))
	}
	return a.failed(ctx, err)
}

// test tests a connection, one of a workspace at a time.
func (a *API) test(ctx context.Context, c *store.Connection) error {
	if err := a.engine.Connections.Test(ctx, c); err != nil {
		return a.failed(ctx, err)
	}
	return nil
}

func (a *API) tryConnection(ctx context.Context, in *struct{ Body contract.TryConnection }) (*struct{ Body contract.ConnectionTest }, error) {
	c := store.Connection{WorkspaceID: workspace(ctx).ID, Kind: in.Body.Kind}
	if in.Body.ConnectionID > 0 {
		kept, err := a.store.Connection(ctx, c.WorkspaceID, in.Body.ConnectionID)
		if err != nil {
			return nil, a.failed(ctx, err)
		}
		if kept.Kind == c.Kind {
			c = kept // with its number, so that a token that is refreshed on the way is kept
		}
	}
	if err := a.set(ctx, &c, in.Body.Settings); err != nil {
		return nil, err
	}
	if err := a.test(ctx, &c); err != nil {
		return nil, err
	}
	return &struct{ Body contract.ConnectionTest }{contract.ConnectionTest{Works: c.BrokenAt == nil, Says: c.Says}}, nil
}

func (a *API) changeConnection(ctx context.Context, in *struct {
	ByID
	Body contract.ConnectionChange
}) (*connectionOutput, error) {
	var wrong error // what is given that cannot be
	c, err := a.store.ChangeConnection(ctx, workspace(ctx).ID, in.ID, func(c *store.Connection) error {
		if in.Body.Name != nil {
			c.Name = strings.TrimSpace(*in.Body.Name)
		}
		if in.Body.Settings != nil {
			wrong = a.set(ctx, c, in.Body.Settings)
		}
		return wrong
	})
	switch {
	case wrong != nil:
		return nil, wrong
	case err != nil:
		return nil, a.connectionTaken(ctx, c, err)
	}
	if in.Body.Settings == nil {
		return &connectionOutput{a.connectionBody(c)}, nil
	}
	return a.tested(ctx, c) // behind the change: a token that is refreshed on the way stays
}

func (a *API) deleteConnection(ctx context.Context, in *ByID) (*struct{}, error) {
	if err := a.store.DeleteConnection(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

func (a *API) testConnection(ctx context.Context, in *ByID) (*connectionOutput, error) {
	c, err := a.store.Connection(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.tested(ctx, c)
}

// tested tests a connection, and keeps what was seen.
func (a *API) tested(ctx context.Context, c store.Connection) (*connectionOutput, error) {
	if err := a.test(ctx, &c); err != nil {
		return nil, err
	}
	if err := a.store.TestedConnection(ctx, c); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &connectionOutput{a.connectionBody(c)}, nil
}

// placeWait is how long a place may take to say what it has.
const placeWait = 45 * time.Second

// at opens the place of a connection.
func (a *API) at(ctx context.Context, id int64) (store.Connection, connect.Place, error) {
	c, err := a.store.Connection(ctx, workspace(ctx).ID, id)
	if err != nil {
		return c, nil, a.failed(ctx, err)
	}
	place, err := a.engine.Connections.Open(c)
	if err != nil {
		return c, nil, huma.Error409Conflict(connection.Says(err))
	}
	return c, place, nil
}

// placeFailed is an error of a place: it is not a fault of ours. One that stays until somebody changes
// the connection is told to all whom it concerns.
func (a *API) placeFailed(ctx context.Context, c store.Connection, err error) error {
	if err := a.engine.NoteBroken(ctx, c, err); err != nil {
		return a.failed(ctx, err)
	}
	return huma.Error409Conflict(connection.Says(err))
}

func (a *API) collections(ctx context.Context, in *ByID) (*pageOutput[contract.Collection], error) {
	c, place, err := a.at(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	defer place.Close()
	asking, cancel := context.WithTimeout(ctx, placeWait)
	defer cancel()
	found, err := place.Collections(asking)
	if err != nil {
		return nil, a.placeFailed(ctx, c, err)
	}
	lists, err := a.store.ListsFrom(ctx, c.WorkspaceID, c.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, func(f connect.Collection) contract.Collection {
		return contract.Collection{ID: f.ID, Name: f.Name, Kind: f.Kind, Contacts: f.Contacts, ListID: lists[f.ID]}
	})), nil
}

// contactsTried is how many contacts of a trial are shown.
const contactsTried = 5

func (a *API) tryRecipe(_ context.Context, in *struct{ Body contract.TryRecipe }) (*struct{ Body contract.RecipeRead }, error) {
	out := contract.RecipeRead{Contacts: []contract.Contact{}, Takes: []string{}}
	r, err := recipe.Parse([]byte(in.Body.Recipe))
	if err != nil {
		out.Says = say.Sentence(err.Error())
		return &struct{ Body contract.RecipeRead }{out}, nil
	}
	out.Takes = actsBody(r.Takes())
	found, next, err := r.ReadAnswer(in.Body.Kind, []byte(in.Body.Answer))
	if err != nil {
		out.Says = say.Sentence(err.Error())
		return &struct{ Body contract.RecipeRead }{out}, nil
	}
	out.Works = true
	out.Says = fmt.Sprintf("The recipe reads %d contacts in the answer, and %s.", len(found), next)
	for _, c := range found[:min(len(found), contactsTried)] {
		out.Contacts = append(out.Contacts, contract.Contact{Key: c.Key, Addresses: slices.Clone(c.Addresses), Fields: contract.Each(c.Cells, func(f connect.Cell) contract.FieldCell { return contract.FieldCell(f) })})
	}
	return &struct{ Body contract.RecipeRead }{out}, nil
}

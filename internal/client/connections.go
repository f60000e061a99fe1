package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"varnet/internal/contract"
)

// ConnectionKinds returns the kinds of places that connections lead to.
func (c *Client) ConnectionKinds(ctx context.Context) (p contract.Page[contract.ConnectionKind], err error) {
	return p, c.call(ctx, http.MethodGet, "/connection-kinds", nil, &p)
}

// Connections returns the connections of the workspace.
func (c *Client) Connections(ctx context.Context) (p contract.Page[contract.Connection], err error) {
	return p, c.call(ctx, http.MethodGet, "/connections", nil, &p)
}

// Connection returns a connection.
func (c *Client) Connection(ctx context.Context, id int64) (k contract.Connection, err error) {
	return k, c.call(ctx, http.MethodGet, fmt.Sprintf("/connections/%d", id), nil, &k)
}

// MakeConnection makes a connection, and tests it.
func (c *Client) MakeConnection(ctx context.Context, n contract.NewConnection) (k contract.Connection, err error) {
	return k, c.call(ctx, http.MethodPost, "/connections", n, &k)
}

// TryConnection tries settings out.
func (c *Client) TryConnection(ctx context.Context, n contract.TryConnection) (t contract.ConnectionTest, err error) {
	return t, c.call(ctx, http.MethodPost, "/connections/test", n, &t)
}

// ChangeConnection changes a connection, and tests it.
func (c *Client) ChangeConnection(ctx context.Context, id int64, n contract.ConnectionChange) (k contract.Connection, err error) {
	return k, c.call(ctx, http.MethodPatch, fmt.Sprintf("/connections/%d", id), n, &k)
}

// TestConnection tests a connection.
func (c *Client) TestConnection(ctx context.Context, id int64) (k contract.Connection, err error) {
	return k, c.call(ctx, http.MethodPost, fmt.Sprintf("/connections/%d/test", id), nil, &k)
}

// DeleteConnection deletes a connection; its lists stay.
func (c *Client) DeleteConnection(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/connections/%d", id))
}

// Collections returns what a connection offers to import.
func (c *Client) Collections(ctx context.Context, id int64) (p contract.Page[contract.Collection], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/connections/%d/collections", id), nil, &p)
}

// BeginImport begins to import a collection.
func (c *Client) BeginImport(ctx context.Context, id int64, n contract.NewImport) (i contract.Import, err error) {
	return i, c.call(ctx, http.MethodPost, fmt.Sprintf("/connections/%d/imports", id), n, &i)
}

// Imports returns the newest imports of a connection.
func (c *Client) Imports(ctx context.Context, id int64) (p contract.Page[contract.Import], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/connections/%d/imports", id), nil, &p)
}

// ImportByID returns an import.
func (c *Client) ImportByID(ctx context.Context, id int64) (i contract.Import, err error) {
	return i, c.call(ctx, http.MethodGet, fmt.Sprintf("/imports/%d", id), nil, &i)
}

// TryRecipe tries a recipe against an answer of its platform.
func (c *Client) TryRecipe(ctx context.Context, t contract.TryRecipe) (r contract.RecipeRead, err error) {
	return r, c.call(ctx, http.MethodPost, "/recipes/test", t, &r)
}

// DraftWriteBack says what a write-back would do, with the first contacts of each step.
func (c *Client) DraftWriteBack(ctx context.Context, run int64, n contract.NewWriteBack) (d contract.WriteBackDraft, err error) {
	return d, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/write-backs/draft", run), n, &d)
}

// BeginWriteBack begins a write-back whose draft was seen: its tag goes with it.
func (c *Client) BeginWriteBack(ctx context.Context, run int64, n contract.NewWriteBack) (b contract.WriteBack, err error) {
	return b, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/write-backs", run), n, &b)
}

// WriteBacks returns the newest write-backs of a run or of a connection; 0: of any.
func (c *Client) WriteBacks(ctx context.Context, run, connection int64) (p contract.Page[contract.WriteBack], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/write-backs?run=%d&connection=%d", run, connection), nil, &p)
}

// WriteBack returns a write-back.
func (c *Client) WriteBack(ctx context.Context, id int64) (b contract.WriteBack, err error) {
	return b, c.call(ctx, http.MethodGet, fmt.Sprintf("/write-backs/%d", id), nil, &b)
}

// WriteBackItems returns a page of the journal of a write-back: of some states, all without.
func (c *Client) WriteBackItems(ctx context.Context, id int64, states []string, cursor string) (p contract.Page[contract.WriteBackItem], err error) {
	q := url.Values{"state": states, "limit": {"500"}}
	if cursor != "" {
		q.Set("cursor", cursor)
	}
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/write-backs/%d/items?%s", id, q.Encode()), nil, &p)
}

// UndoWriteBack begins to give the contacts back what they had.
func (c *Client) UndoWriteBack(ctx context.Context, id int64) (b contract.WriteBack, err error) {
	return b, c.call(ctx, http.MethodPost, fmt.Sprintf("/write-backs/%d/undo", id), nil, &b)
}

// MakeLink makes a link from which a tool fetches a file of a run.
func (c *Client) MakeLink(ctx context.Context, run int64, n contract.NewLink) (l contract.Link, err error) {
	return l, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/links", run), n, &l)
}

// Links returns the links of a run that are good.
func (c *Client) Links(ctx context.Context, run int64) (p contract.Page[contract.Link], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/links", run), nil, &p)
}

// DeleteLink deletes a link.
func (c *Client) DeleteLink(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/links/%d", id))
}

// At returns the URL of a path of the service.
func (c *Client) At(path string) string { return strings.TrimSuffix(c.base, "/api/v1") + path }

// GoToPlace returns the page of the place at which a person signs in, who is sent back to the
// console at an origin.
func (c *Client) GoToPlace(ctx context.Context, id int64, origin string) (string, error) {
	var p contract.SignInPage
	err := c.call(ctx, http.MethodPost, fmt.Sprintf("/connections/%d/sign-in", id), contract.SignInAt{Origin: origin}, &p)
	return p.URL, err
}

// ComeFromPlace keeps the sign-in with which a person came back from a place.
func (c *Client) ComeFromPlace(ctx context.Context, state, code string) (k contract.Connection, err error) {
	return k, c.call(ctx, http.MethodPost, "/connections/signed-in", contract.SignedIn{State: state, Code: code}, &k)
}

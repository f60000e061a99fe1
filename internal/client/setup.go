package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"varnet/internal/contract"
)

// TryCatalogue tells what entries would alter.
func (c *Client) TryCatalogue(ctx context.Context, entries ...contract.CatalogueEntry) (e contract.CatalogueEffect, err error) {
	return e, c.call(ctx, http.MethodPost, "/catalogue/try", contract.CatalogueEntries{Entries: entries}, &e)
}

// Workers returns the processes that work on runs.
func (c *Client) Workers(ctx context.Context) (w []contract.Worker, err error) {
	return items[contract.Worker](ctx, c, http.MethodGet, "/workers", nil)
}

// Health returns what waits to be worked, and what keeps failing.
func (c *Client) Health(ctx context.Context) (h contract.ServiceHealth, err error) {
	return h, c.call(ctx, http.MethodGet, "/health", nil, &h)
}

// DrainWorker tells a worker to take nothing new and come to its end.
func (c *Client) DrainWorker(ctx context.Context, id string) error {
	resp, err := c.do(ctx, http.MethodPost, "/workers/"+url.PathEscape(id)+"/drain", nil)
	if err == nil {
		err = resp.Body.Close()
	}
	return err
}

// Catalogue returns the workspace's own catalogue entries.
func (c *Client) Catalogue(ctx context.Context) ([]contract.CatalogueEntry, error) {
	return every[contract.CatalogueEntry](ctx, c, "/catalogue", url.Values{"limit": {"500"}})
}

// ShippedCatalogue returns a page of the entries of a shipped catalogue with a text in their name.
func (c *Client) ShippedCatalogue(ctx context.Context, q contract.ShippedQuery) (p contract.Page[contract.ShippedEntry], err error) {
	return p, c.call(ctx, http.MethodGet, "/catalogue/shipped?"+contract.Query(q).Encode(), nil, &p)
}

// AddToCatalogue adds entries and returns them in their normal form.
func (c *Client) AddToCatalogue(ctx context.Context, entries []contract.CatalogueEntry) ([]contract.CatalogueEntry, error) {
	var added contract.CatalogueEntries
	err := c.call(ctx, http.MethodPost, "/catalogue", contract.CatalogueEntries{Entries: entries}, &added)
	return added.Entries, err
}

// CatalogueSources returns the catalogues that the workspace follows.
func (c *Client) CatalogueSources(ctx context.Context) (s []contract.CatalogueSource, err error) {
	return items[contract.CatalogueSource](ctx, c, http.MethodGet, "/catalogue/sources", nil)
}

// FollowCatalogue follows a catalogue: it is read now and every day.
func (c *Client) FollowCatalogue(ctx context.Context, n contract.NewCatalogueSource) (s contract.CatalogueSource, err error) {
	return s, c.call(ctx, http.MethodPost, "/catalogue/sources", n, &s)
}

// ReadCatalogueSource reads a followed catalogue now.
func (c *Client) ReadCatalogueSource(ctx context.Context, id int64) (s contract.CatalogueSource, err error) {
	return s, c.call(ctx, http.MethodPost, fmt.Sprintf("/catalogue/sources/%d/read", id), nil, &s)
}

// UnfollowCatalogue follows a catalogue no longer.
func (c *Client) UnfollowCatalogue(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/catalogue/sources/%d", id))
}

// DeleteFromCatalogue takes an entry back.
func (c *Client) DeleteFromCatalogue(ctx context.Context, kind, name string) error {
	return c.remove(ctx, "/catalogue/"+url.PathEscape(kind)+"/"+url.PathEscape(name))
}

// Policies returns the policies, the ready-made ones first.
func (c *Client) Policies(ctx context.Context) (p []contract.KnownPolicy, err error) {
	return items[contract.KnownPolicy](ctx, c, http.MethodGet, "/policies", nil)
}

// Policy returns one policy as it stands now.
func (c *Client) Policy(ctx context.Context, name string) (p contract.KnownPolicy, err error) {
	return p, c.call(ctx, http.MethodGet, "/policies/"+url.PathEscape(name), nil, &p)
}

// SavePolicy saves a policy of one's own.
func (c *Client) SavePolicy(ctx context.Context, p contract.Policy) (saved contract.KnownPolicy, err error) {
	return saved, c.call(ctx, http.MethodPut, "/policies/"+url.PathEscape(p.Name), p, &saved)
}

// ChoosePolicy lets another policy decide on a run; nobody is asked again.
func (c *Client) ChoosePolicy(ctx context.Context, run int64, name string) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodPut, fmt.Sprintf("/runs/%d/policy", run), contract.PolicyChoice{Name: name}, &r)
}

// DeletePolicy deletes a policy of one's own.
func (c *Client) DeletePolicy(ctx context.Context, name string) error {
	return c.remove(ctx, "/policies/"+url.PathEscape(name))
}

// TryPolicy tells what a policy would do with the rows of a run.
func (c *Client) TryPolicy(ctx context.Context, run int64, p contract.Policy) (t contract.Trial, err error) {
	return t, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/try", run), p, &t)
}

// Decide lets another policy decide on a run.
func (c *Client) Decide(ctx context.Context, run int64, policy string) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodPut, fmt.Sprintf("/runs/%d/policy", run), contract.PolicyChoice{Name: policy}, &r)
}

// Keys returns the keys of the workspace, the oldest first.
func (c *Client) Keys(ctx context.Context) (k []contract.KnownKey, err error) {
	return items[contract.KnownKey](ctx, c, http.MethodGet, "/keys", nil)
}

// MakeKey makes a key; its text is in the answer, this once.
func (c *Client) MakeKey(ctx context.Context, n contract.NewKey) (k contract.KnownKey, err error) {
	return k, c.call(ctx, http.MethodPost, "/keys", n, &k)
}

// RotateKey replaces a key by a new one with the same terms; the old one ends after the overlap.
func (c *Client) RotateKey(ctx context.Context, id int64, r contract.KeyRotation) (k contract.KnownKey, err error) {
	return k, c.call(ctx, http.MethodPost, fmt.Sprintf("/keys/%d/rotate", id), r, &k)
}

// DeleteKey revokes a key, and ends the console sessions that it opened.
func (c *Client) DeleteKey(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/keys/%d", id))
}

// LetterSettings returns whether and by which server letters are sent.
func (c *Client) LetterSettings(ctx context.Context) (s contract.LetterSettings, err error) {
	return s, c.call(ctx, http.MethodGet, "/letters", nil, &s)
}

// SetLetterServer sets the submission server up.
func (c *Client) SetLetterServer(ctx context.Context, n contract.NewLetterServer) (s contract.LetterSettings, err error) {
	return s, c.call(ctx, http.MethodPut, "/letters/server", n, &s)
}

// RemoveLetterServer lets no letter be sent any more.
func (c *Client) RemoveLetterServer(ctx context.Context) error {
	return c.remove(ctx, "/letters/server")
}

// TestLetterServer sends a test letter.
func (c *Client) TestLetterServer(ctx context.Context, to string) (s contract.LetterSent, err error) {
	return s, c.call(ctx, http.MethodPost, "/letters/test", contract.LetterTest{To: to}, &s)
}

package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"varnet/internal/contract"
)

// Opinions returns what other checks found of a list.
func (c *Client) Opinions(ctx context.Context, list int64) (o contract.Opinions, err error) {
	return o, c.call(ctx, http.MethodGet, fmt.Sprintf("/lists/%d/opinions", list), nil, &o)
}

// OpinionRows returns a page of rows by what another check and the last run found.
func (c *Client) OpinionRows(ctx context.Context, list int64, q contract.OpinionQuery) (p contract.Page[contract.OpinionRow], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/lists/%d/opinion-rows?%s", list, contract.Query(q).Encode()), nil, &p)
}

// SetOpinionMeaning says what the words of another check mean.
func (c *Client) SetOpinionMeaning(ctx context.Context, name string, means map[string]string) error {
	return c.call(ctx, http.MethodPut, "/opinions/"+url.PathEscape(name), contract.OpinionMeaning{Means: means}, nil)
}

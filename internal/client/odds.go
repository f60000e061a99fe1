package client

import (
	"context"
	"fmt"
	"net/http"

	"varnet/internal/contract"
)

// Odds returns what the workspace has learnt of catch-all addresses.
func (c *Client) Odds(ctx context.Context) (o contract.Odds, err error) {
	return o, c.call(ctx, http.MethodGet, "/odds", nil, &o)
}

// ShareOutcomes changes whether outcomes are shared as counts of domains.
func (c *Client) ShareOutcomes(ctx context.Context, share bool) error {
	return c.call(ctx, http.MethodPut, "/odds/sharing", contract.OddsSharing{Shares: share}, nil)
}

// ColumnMeanings returns what the columns of a list hold.
func (c *Client) ColumnMeanings(ctx context.Context, list int64) (m contract.ColumnMeanings, err error) {
	return m, c.call(ctx, http.MethodGet, fmt.Sprintf("/lists/%d/meanings", list), nil, &m)
}

// SetColumnMeanings says what the columns of a list hold.
func (c *Client) SetColumnMeanings(ctx context.Context, list int64, m []contract.ColumnMeaning) (out contract.ColumnMeanings, err error) {
	return out, c.call(ctx, http.MethodPut, fmt.Sprintf("/lists/%d/meanings", list), contract.ColumnMeanings{Meanings: append([]contract.ColumnMeaning{}, m...)}, &out)
}

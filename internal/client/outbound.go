package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"varnet/core/outbound"
	"varnet/internal/contract"
)

// Readiness reports whether outbound is ready.
func (c *Client) Readiness(ctx context.Context) (s contract.Readiness, err error) {
	return s, c.call(ctx, http.MethodGet, "/outbound/readiness", nil, &s)
}

// Outbound returns outbound as it stands.
func (c *Client) Outbound(ctx context.Context) (s contract.Outbound, err error) {
	return s, c.call(ctx, http.MethodGet, "/outbound", nil, &s)
}

// TestOutbound tests all of outbound.
func (c *Client) TestOutbound(ctx context.Context) (s contract.Outbound, err error) {
	return s, c.call(ctx, http.MethodPost, "/outbound/test", nil, &s)
}

// AddParts adds parts of outbound, one a line, and tests the whole.
func (c *Client) AddParts(ctx context.Context, kind outbound.Kind, lines string) (s contract.Outbound, err error) {
	return s, c.call(ctx, http.MethodPost, "/outbound/parts", contract.NewParts{Kind: kind, Lines: lines}, &s)
}

// RemovePart removes a part of outbound.
func (c *Client) RemovePart(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/outbound/parts/%d", id))
}

// RemoveFailed removes the parts of a kind that failed their last test.
func (c *Client) RemoveFailed(ctx context.Context, kind outbound.Kind) (r contract.Removed, err error) {
	return r, c.call(ctx, http.MethodPost, "/outbound/parts/remove-failed?kind="+url.QueryEscape(string(kind)), nil, &r)
}

// SetOutbound changes what holds for all of outbound.
func (c *Client) SetOutbound(ctx context.Context, n contract.OutboundSettings) (s contract.Outbound, err error) {
	return s, c.call(ctx, http.MethodPut, "/outbound/settings", n, &s)
}

// SetRules replaces the rules.
func (c *Client) SetRules(ctx context.Context, rules []contract.Rule) (s contract.Outbound, err error) {
	return s, c.call(ctx, http.MethodPut, "/outbound/rules", contract.Rules{Rules: rules}, &s)
}

// OwnRules returns the rules of the workspace.
func (c *Client) OwnRules(ctx context.Context) ([]contract.SaidRule, error) {
	return items[contract.SaidRule](ctx, c, http.MethodGet, "/rules", nil)
}

// SetOwnRules replaces the rules of the workspace.
func (c *Client) SetOwnRules(ctx context.Context, rules []contract.Rule) ([]contract.SaidRule, error) {
	return items[contract.SaidRule](ctx, c, http.MethodPut, "/rules", contract.Rules{Rules: rules})
}

// TryRules tells which rule fits an address.
func (c *Client) TryRules(ctx context.Context, address string) (t contract.Tried, err error) {
	return t, c.call(ctx, http.MethodPost, "/outbound/rules/try", contract.OneAddress{Address: address}, &t)
}

// Operators tells what was learnt about operators with a text in their name.
func (c *Client) Operators(ctx context.Context, search string) (o []contract.OperatorPace, err error) {
	return items[contract.OperatorPace](ctx, c, http.MethodGet, "/outbound/operators?search="+url.QueryEscape(search), nil)
}

// ForgetOperator forgets what was learnt about an operator.
func (c *Client) ForgetOperator(ctx context.Context, name string) error {
	return c.remove(ctx, "/outbound/operators/"+url.PathEscape(name))
}

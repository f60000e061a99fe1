package client

import (
	"context"
	"fmt"
	"net/http"

	"varnet/internal/contract"
)

// BounceSources returns where what comes back is read.
func (c *Client) BounceSources(ctx context.Context) (p contract.Page[contract.BounceSource], err error) {
	return p, c.call(ctx, http.MethodGet, "/bounce-sources", nil, &p)
}

// MakeBounceSource has a mailbox read, or a program call.
func (c *Client) MakeBounceSource(ctx context.Context, n contract.NewBounceSource) (b contract.BounceSource, err error) {
	return b, c.call(ctx, http.MethodPost, "/bounce-sources", n, &b)
}

// ChangeBounceSource changes how a mailbox is read.
func (c *Client) ChangeBounceSource(ctx context.Context, id int64, n contract.NewBounceSource) (b contract.BounceSource, err error) {
	return b, c.call(ctx, http.MethodPut, fmt.Sprintf("/bounce-sources/%d", id), n, &b)
}

// DeleteBounceSource stops reading a mailbox, or taking a program's calls.
func (c *Client) DeleteBounceSource(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/bounce-sources/%d", id))
}

// ReadBounceSource reads a mailbox now.
func (c *Client) ReadBounceSource(ctx context.Context, id int64) (b contract.BounceSource, err error) {
	return b, c.call(ctx, http.MethodPost, fmt.Sprintf("/bounce-sources/%d/read", id), nil, &b)
}

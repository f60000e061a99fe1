package client

import (
	"context"
	"fmt"
	"io"
	"net/http"

	"varnet/internal/contract"
)

// LookAtAddress returns all that the workspace holds about an address.
func (c *Client) LookAtAddress(ctx context.Context, address string) (h contract.Held, err error) {
	return h, c.call(ctx, http.MethodPost, "/requests/look", contract.OneAddress{Address: address}, &h)
}

// RightsFile writes the same for its person, as JSON or (format "text") as plain text.
func (c *Client) RightsFile(ctx context.Context, address, format string, out io.Writer) error {
	resp, err := c.do(ctx, http.MethodPost, "/requests/file", contract.RightsFile{Address: address, Format: format})
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(out, resp.Body)
	return err
}

// MakeRequest has an address erased ("erase"), or allows one again that was ("allow"). What is
// large may still be at work when it returns.
func (c *Client) MakeRequest(ctx context.Context, o contract.RightsOrder) (r contract.RightsRequest, err error) {
	return r, c.call(ctx, http.MethodPost, "/requests", o, &r)
}

// Requests returns what persons asked for about their addresses, the latest first.
func (c *Client) Requests(ctx context.Context) (p contract.Page[contract.RightsRequest], err error) {
	return p, c.call(ctx, http.MethodGet, "/requests", nil, &p)
}

// Request returns one of them.
func (c *Client) Request(ctx context.Context, id int64) (r contract.RightsRequest, err error) {
	return r, c.call(ctx, http.MethodGet, fmt.Sprintf("/requests/%d", id), nil, &r)
}

// ExportWorkspace writes everything in the workspace as files in a zip.
func (c *Client) ExportWorkspace(ctx context.Context, out io.Writer) error {
	return c.download(ctx, "/team/export", out)
}

// DeleteWorkspace has the workspace deleted in 7 days; its name is the confirmation.
func (c *Client) DeleteWorkspace(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodPost, "/team/delete", contract.WorkspaceName{Name: name}, nil)
}

// KeepWorkspace stops the deletion of the workspace.
func (c *Client) KeepWorkspace(ctx context.Context) error {
	return c.call(ctx, http.MethodPost, "/team/keep", nil, nil)
}

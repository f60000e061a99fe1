package client

import (
	"context"
	"fmt"
	"io"
	"net/http"

	"varnet/internal/contract"
)

// AskIn begins to sign a device in that calls itself so; Code of the answer is shown to its
// person, who types it in the console.
func (c *Client) AskIn(ctx context.Context, device string) (g contract.DeviceGrant, err error) {
	resp, err := c.doWith(ctx, http.MethodPost, "/devices", nil, http.Header{"User-Agent": {"varnet/1 (" + device + ")"}})
	if err != nil {
		return g, err
	}
	return g, answered(resp, &g)
}

// AwaitDevice reports whether a device was let in; as one that calls itself so.
func (c *Client) AwaitDevice(ctx context.Context, secret, device string) (s contract.DeviceState, err error) {
	resp, err := c.doWith(ctx, http.MethodPost, "/devices/session", contract.DeviceSecret{Secret: secret}, http.Header{"User-Agent": {"varnet/1 (" + device + ")"}})
	if err != nil {
		return s, err
	}
	return s, answered(resp, &s)
}

// Session returns who calls.
func (c *Client) Session(ctx context.Context) (s contract.Session, err error) {
	return s, c.call(ctx, http.MethodGet, "/session", nil, &s)
}

// SignOut ends the session of a person.
func (c *Client) SignOut(ctx context.Context) error { return c.remove(ctx, "/session") }

// EnterWorkspace lets the session of a person work in another workspace of theirs.
func (c *Client) EnterWorkspace(ctx context.Context, workspace int64) (s contract.Session, err error) {
	return s, c.call(ctx, http.MethodPut, "/session/workspace", contract.WorkspaceChoice{WorkspaceID: workspace}, &s)
}

// Team returns the workspace with its people.
func (c *Client) Team(ctx context.Context) (t contract.Team, err error) {
	return t, c.call(ctx, http.MethodGet, "/team", nil, &t)
}

// Invite invites somebody to the workspace; Link of the answer is what the letter has.
func (c *Client) Invite(ctx context.Context, n contract.NewInvitation) (i contract.Invitation, err error) {
	return i, c.call(ctx, http.MethodPost, "/team/invitations", n, &i)
}

// TakeInvitationBack withdraws an invitation.
func (c *Client) TakeInvitationBack(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/team/invitations/%d", id))
}

// ChangeRole changes what a member is.
func (c *Client) ChangeRole(ctx context.Context, person int64, role string) (t contract.Team, err error) {
	return t, c.call(ctx, http.MethodPut, fmt.Sprintf("/team/members/%d", person), contract.RoleChange{Role: role}, &t)
}

// RemoveMember takes a person out of the workspace.
func (c *Client) RemoveMember(ctx context.Context, person int64) error {
	return c.remove(ctx, fmt.Sprintf("/team/members/%d", person))
}

// Audit returns a page of the audit trail of the workspace, the latest first.
func (c *Client) Audit(ctx context.Context, q contract.AuditQuery) (p contract.Page[contract.AuditEntry], err error) {
	return p, c.call(ctx, http.MethodGet, "/audit?"+contract.Query(q).Encode(), nil, &p)
}

// InstallationAudit returns a page of what happened outside of all workspaces.
func (c *Client) InstallationAudit(ctx context.Context, q contract.AuditQuery) (p contract.Page[contract.AuditEntry], err error) {
	return p, c.call(ctx, http.MethodGet, "/installation/audit?"+contract.Query(q).Encode(), nil, &p)
}

// ExportAudit writes the audit trail of the workspace as JSON lines, the oldest first.
func (c *Client) ExportAudit(ctx context.Context, w io.Writer) error {
	resp, err := c.do(ctx, http.MethodGet, "/audit/file", nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(w, resp.Body)
	return err
}

// VerifyAudit holds the whole audit trail against its hashes.
func (c *Client) VerifyAudit(ctx context.Context) (v contract.AuditVerification, err error) {
	return v, c.call(ctx, http.MethodGet, "/installation/audit/verification", nil, &v)
}

// Installation returns what holds for all workspaces, and what each uses.
func (c *Client) Installation(ctx context.Context) (i contract.Installation, err error) {
	return i, c.call(ctx, http.MethodGet, "/installation", nil, &i)
}

// SetInstallation changes what holds for all workspaces.
func (c *Client) SetInstallation(ctx context.Context, s contract.InstallationSettings) (i contract.Installation, err error) {
	return i, c.call(ctx, http.MethodPut, "/installation", s, &i)
}

// LimitWorkspace limits the rows of all lists of a workspace; 0: any number.
func (c *Client) LimitWorkspace(ctx context.Context, workspace, rows int64) (i contract.Installation, err error) {
	return i, c.call(ctx, http.MethodPut, fmt.Sprintf("/installation/workspaces/%d", workspace), contract.WorkspaceLimits{MaxRows: rows}, &i)
}

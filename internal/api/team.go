package api

import (
	"context"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/account"
	"varnet/internal/contract"
	"varnet/internal/move"
	"varnet/internal/store"
)

func (a *API) registerTeams(h huma.API) {
	huma.Register(h, operation("get-team", http.MethodGet, "/team", "The workspace with its people and open invitations"), a.team)
	huma.Register(h, operation("change-team", http.MethodPut, "/team", "Change the workspace's name, and what its people must and may"), a.changeTeam)
	huma.Register(h, operation("change-role", http.MethodPut, "/team/members/{id}", "Change what a member is"), a.changeRole)
	huma.Register(h, operation("remove-member", http.MethodDelete, "/team/members/{id}", "Take a person out of the workspace"), a.removeMember)
	huma.Register(h, creates(operation("invite", http.MethodPost, "/team/invitations", "Invite somebody by letter")), a.invite)
	huma.Register(h, operation("take-invitation-back", http.MethodDelete, "/team/invitations/{id}", "Withdraw an invitation"), a.takeInvitationBack)
	huma.Register(h, operation("hand-over", http.MethodPost, "/team/owner", "Make a member its owner, and yourself a manager"), a.handOver)
	huma.Register(h, noContent(operation("leave-team", http.MethodPost, "/team/leave", "Leave the workspace; what you made stays")), a.leaveTeam)
	huma.Register(h, noContent(operation("delete-workspace", http.MethodPost, "/team/delete", "Have the workspace deleted with everything in it, in 7 days")), a.deleteWorkspace)
	huma.Register(h, noContent(operation("keep-workspace", http.MethodPost, "/team/keep", "Stop the deletion of the workspace")), a.keepWorkspace)
	file := operation("export-workspace", http.MethodGet, "/team/export", "Everything in the workspace as files in a zip")
	file.Responses = fileResponse("application/zip")
	huma.Register(h, file, a.exportWorkspace)
	huma.Register(h, operation("accept-invitation", http.MethodPost, "/invitations/accept", "Accept an invitation, and work in its workspace"), a.acceptInvitation)
}

type teamOutput struct{ Body contract.Team }

func (a *API) team(ctx context.Context, _ *struct{}) (*teamOutput, error) {
	c := callerOf(ctx)
	t, err := a.store.Team(ctx, c.WorkspaceID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	members, err := a.store.Members(ctx, c.WorkspaceID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	invitations, err := a.store.Invitations(ctx, c.WorkspaceID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &teamOutput{contract.Team{ID: t.ID, Name: t.Name, SecondFactor: t.SecondFactor, ReadersExport: t.ReadersExport, Invitations: contract.Each(invitations, invitationBody), DeleteAt: t.DeleteAt, DeleteBy: t.DeleteBy,
		Members: contract.Each(members, func(m store.Member) contract.Member {
			return contract.Member{Who: contract.Who{ID: m.PersonID, Name: m.Name, Address: m.Address}, Role: m.Role, SecondFactor: m.HasFactor, JoinedAt: m.JoinedAt, SeenAt: m.SeenAt, You: m.PersonID == c.PersonID}
		})}}, nil
}

// teamAgain is the team after a change.
func (a *API) teamAgain(ctx context.Context, err error) (*teamOutput, error) {
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.team(ctx, nil)
}

func (a *API) changeTeam(ctx context.Context, in *struct{ Body contract.TeamChange }) (*teamOutput, error) {
	return a.teamAgain(ctx, a.accounts.SetTeam(ctx, callerOf(ctx), in.Body.Name, in.Body.SecondFactor, in.Body.ReadersExport))
}

func (a *API) changeRole(ctx context.Context, in *struct {
	ByID
	Body contract.RoleChange
}) (*teamOutput, error) {
	noteOf(ctx).detail = in.Body.Role
	return a.teamAgain(ctx, a.accounts.SetRole(ctx, callerOf(ctx), in.ID, account.Role(in.Body.Role)))
}

func (a *API) removeMember(ctx context.Context, in *ByID) (*struct{}, error) {
	return nil, a.failed(ctx, a.accounts.RemoveMember(ctx, callerOf(ctx), in.ID))
}

func (a *API) invite(ctx context.Context, in *struct {
	Sender
	Body contract.NewInvitation
}) (*struct{ Body contract.Invitation }, error) {
	a.aboutAddress(ctx, in.Body.Address)
	noteOf(ctx).detail = in.Body.Role
	i, secret, err := a.accounts.Invite(ctx, callerOf(ctx), in.Body.Address, account.Role(in.Body.Role), in.from)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := invitationBody(i)
	base := in.from.Origin
	if s, err := a.letters.Settings(ctx); err == nil {
		base = s.BaseURL
	}
	b.Link = fmt.Sprintf("%s/invitation#%s", base, secret)
	return &struct{ Body contract.Invitation }{b}, nil
}

func (a *API) takeInvitationBack(ctx context.Context, in *ByID) (*struct{}, error) {
	return nil, a.failed(ctx, a.store.Uninvite(ctx, callerOf(ctx).WorkspaceID, in.ID))
}

func (a *API) handOver(ctx context.Context, in *struct{ Body contract.NewOwner }) (*teamOutput, error) {
	noteOf(ctx).thing = fmt.Sprintf("members/%d", in.Body.PersonID)
	return a.teamAgain(ctx, a.accounts.HandOver(ctx, callerOf(ctx), in.Body.PersonID))
}

func (a *API) leaveTeam(ctx context.Context, _ *struct{}) (*struct{}, error) {
	c := callerOf(ctx)
	if c.WorkspaceID == 0 {
		return nil, huma.Error409Conflict("You are in no workspace.")
	}
	return nil, a.failed(ctx, a.accounts.Leave(ctx, c))
}

func (a *API) deleteWorkspace(ctx context.Context, in *struct{ Body contract.WorkspaceName }) (*struct{}, error) {
	return nil, a.failed(ctx, a.accounts.DeleteWorkspace(ctx, callerOf(ctx), in.Body.Name, a.engine.Clock.Now()))
}

func (a *API) keepWorkspace(ctx context.Context, _ *struct{}) (*struct{}, error) {
	return nil, a.failed(ctx, a.accounts.KeepWorkspace(ctx, callerOf(ctx)))
}

func (a *API) exportWorkspace(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	c := callerOf(ctx)
	w := &move.Writer{Store: a.store.Bulk(), Secrets: a.accounts.Secrets, Release: a.release}
	return a.stream(download{name: fmt.Sprintf("workspace-%d.zip", c.WorkspaceID), kind: "application/zip", write: func(out io.Writer) error { return w.Write(ctx, c.WorkspaceID, out) }}), nil
}

func (a *API) acceptInvitation(ctx context.Context, in *linkInput) (*sessionBody, error) {
	i, err := a.accounts.Accept(ctx, callerOf(ctx), in.Body.Invitation)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.sessionAgain(ctx, i.WorkspaceID)
}

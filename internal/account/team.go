package account

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
	"varnet/internal/store"
)

// mostInvitations is how many may be open in a workspace at a time.
const mostInvitations = 200

// Invite sends an invitation to the caller's workspace, in the place of an earlier one. The
// secret of its link is returned, for installations that send no letters.
func (a *Accounts) Invite(ctx context.Context, c Caller, addr string, role Role, from From) (i store.Invitation, secret string, err error) {
	at, err := mailbox(addr)
	if err != nil {
		return i, "", err
	}
	if !IsRole(string(role)) {
		return i, "", refuse(Invalid, "There is no role %q.", role)
	}
	open, err := a.Store.Invitations(ctx, c.WorkspaceID)
	if err != nil {
		return i, "", err
	}
	if len(open) >= mostInvitations {
		return i, "", refuse(Conflict, "%d invitations are open; take some back first.", len(open))
	}
	members, err := a.Store.Members(ctx, c.WorkspaceID)
	if err != nil {
		return i, "", err
	}
	for _, m := range members {
		if theirs, err := mailbox(m.Address); err == nil && theirs.Canonical() == at.Canonical() {
			return i, "", refuse(Conflict, "%s is in this workspace already.", m.Name)
		}
	}
	by := lettersFor(from.Addr)
	if err := a.allowed(ctx, lettersTo(at.Canonical()), by); err != nil {
		return i, "", err
	}
	if err := a.count(ctx, lettersTo(at.Canonical())); err != nil {
		return i, "", err
	}
	i = store.Invitation{WorkspaceID: c.WorkspaceID, Workspace: c.Workspace, Address: at.Mailbox(), Canonical: at.Canonical(), Role: string(role), InvitedBy: &c.Name, CreatedAt: time.Now(), ExpiresAt: time.Now().Add(inviteLife)}
	err = a.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if secret, err = s.Invite(ctx, i, c.PersonID); err != nil {
			return err
		}
		return a.Post(ctx, tx, i.Address, a.inviteLetter(ctx, i, c.Name, secret))
	})
	return i, secret, err
}

// Look returns the invitation of a link.
func (a *Accounts) Look(ctx context.Context, secret string) (store.Invitation, error) {
	i, err := a.Store.Invitation(ctx, secret)
	return i, noInvitation(err)
}

// Accept makes the person who calls a member by an invitation to their address, and lets
// their session work in that workspace.
func (a *Accounts) Accept(ctx context.Context, c Caller, secret string) (store.Invitation, error) {
	i, err := a.Store.Invitation(ctx, secret)
	if err != nil {
		return i, noInvitation(err)
	}
	if at, err := mailbox(c.Address); err != nil || at.Canonical() != i.Canonical {
		return i, refuse(Forbidden, "This invitation is for %s, and you are signed in as %s. Sign in with that address, or ask to be invited with yours.", i.Address, c.Address)
	}
	err = a.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.TakeInvitation(ctx, secret); err != nil {
			return noInvitation(err)
		}
		if err := a.join(ctx, s, tx, i, c.PersonID, c.Name); err != nil {
			return err
		}
		return s.EnterWorkspace(ctx, c.Session.ID, c.PersonID, i.WorkspaceID)
	})
	return i, err
}

// join makes somebody a member by an invitation, and tells those who look after the team.
func (a *Accounts) join(ctx context.Context, s *store.Store, tx pgx.Tx, i store.Invitation, person int64, name string) error {
	if err := s.Join(ctx, i.WorkspaceID, person, i.Role); err != nil {
		return err
	}
	return a.Happened(ctx, s, tx, event.Event{Code: event.MemberJoined, Workspace: i.WorkspaceID, Data: event.Data{Person: name, Role: i.Role},
		Says: fmt.Sprintf("%s took the invitation and is in this workspace now, as %s.", name, i.Role)})
}

// Decline ends an invitation that is not wanted.
func (a *Accounts) Decline(ctx context.Context, secret string) error {
	return noInvitation(a.Store.TakeInvitation(ctx, secret))
}

var errLastOwner = &Refused{Conflict, "A workspace has at least one owner. Make somebody else an owner first, or delete the workspace."}

// SetRole changes what a member of the caller's workspace is.
func (a *Accounts) SetRole(ctx context.Context, c Caller, person int64, role Role) error {
	if !IsRole(string(role)) {
		return refuse(Invalid, "There is no role %q.", role)
	}
	return a.changeMember(ctx, c, person, func(s *store.Store) error { return s.SetRole(ctx, c.WorkspaceID, person, string(role)) }, role == Owner)
}

// RemoveMember takes a member out of the caller's workspace; what they made stays.
func (a *Accounts) RemoveMember(ctx context.Context, c Caller, person int64) error {
	return a.changeMember(ctx, c, person, func(s *store.Store) error { return s.RemoveMember(ctx, c.WorkspaceID, person) }, false)
}

// Leave takes the person who calls out of their workspace.
func (a *Accounts) Leave(ctx context.Context, c Caller) error {
	return a.RemoveMember(ctx, c, c.PersonID)
}

// changeMember changes a member, unless the last owner would be none any more.
func (a *Accounts) changeMember(ctx context.Context, c Caller, person int64, do func(*store.Store) error, stays bool) error {
	return a.Store.ChangeTeam(ctx, c.WorkspaceID, func(s *store.Store, _ pgx.Tx, owners int) error {
		was, err := s.RoleOf(ctx, c.WorkspaceID, person)
		if err != nil {
			return err
		}
		if Role(was) == Owner && owners == 1 && !stays {
			return errLastOwner
		}
		return do(s)
	})
}

// HandOver makes a member an owner of the caller's workspace, and the caller a manager.
func (a *Accounts) HandOver(ctx context.Context, c Caller, person int64) error {
	if err := c.Confirmed(); err != nil {
		return err
	}
	if person == c.PersonID {
		return refuse(Conflict, "You are its owner.")
	}
	return a.Store.ChangeTeam(ctx, c.WorkspaceID, func(s *store.Store, _ pgx.Tx, _ int) error {
		if err := s.SetRole(ctx, c.WorkspaceID, person, string(Owner)); err != nil {
			return err
		}
		return s.SetRole(ctx, c.WorkspaceID, c.PersonID, string(Manager))
	})
}

// SetTeam changes the caller's workspace.
func (a *Accounts) SetTeam(ctx context.Context, c Caller, name string, secondFactor, readersExport bool) error {
	name, err := named(name)
	if err != nil {
		return err
	}
	if secondFactor && !c.HasFactor {
		return refuse(Conflict, "Set a second factor up for yourself first: without one this would shut you out.")
	}
	return a.Store.SetTeam(ctx, store.Team{ID: c.WorkspaceID, Name: name, SecondFactor: secondFactor, ReadersExport: readersExport})
}

// mostWorkspaces is how many somebody may be in.
const mostWorkspaces = 100

// NewWorkspace makes a workspace whose owner is the person who calls, and goes there.
func (a *Accounts) NewWorkspace(ctx context.Context, c Caller, name string) (t store.Team, err error) {
	if name, err = named(name); err != nil {
		return t, err
	}
	in, err := a.Store.Memberships(ctx, c.PersonID)
	if err != nil {
		return t, err
	}
	if len(in) >= mostWorkspaces {
		return t, refuse(Conflict, "You are in %d workspaces, which is the most that somebody may be in.", len(in))
	}
	i, err := a.Store.Installation(ctx)
	if err != nil {
		return t, err
	}
	if SignUpMode(i.SignUp) == Closed && !c.Owner {
		return t, refuse(Forbidden, "In this installation only its owners make workspaces.")
	}
	err = a.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if t, err = s.NewWorkspace(ctx, name); err != nil {
			return err
		}
		if err = s.Join(ctx, t.ID, c.PersonID, string(Owner)); err != nil {
			return err
		}
		return s.EnterWorkspace(ctx, c.Session.ID, c.PersonID, t.ID)
	})
	return t, err
}

// Enter lets the session of the person who calls work in another workspace of theirs.
func (a *Accounts) Enter(ctx context.Context, c Caller, workspace int64) error {
	return a.Store.EnterWorkspace(ctx, c.Session.ID, c.PersonID, workspace)
}

// DeletedAfter is how long a workspace still is what it was, after somebody ordered its deletion.
const DeletedAfter = 7 * 24 * time.Hour

// DeleteWorkspace has the caller's workspace deleted with everything in it, DeletedAfter from now;
// until then it can be stopped. Its name is typed as a confirmation.
func (a *Accounts) DeleteWorkspace(ctx context.Context, c Caller, name string, now time.Time) error {
	if err := c.Confirmed(); err != nil {
		return err
	}
	if name != c.Workspace {
		return refuse(Invalid, "The workspace is “%s”. Type its name exactly to delete it.", c.Workspace)
	}
	at := now.Add(DeletedAfter)
	return a.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.OrderDeletion(ctx, c.WorkspaceID, at, c.Name); err != nil {
			return err
		}
		return a.Happened(ctx, s, tx, event.Event{Code: event.WorkspaceEnding, Workspace: c.WorkspaceID, Data: event.Data{Person: c.Name, Until: &at},
			Says: fmt.Sprintf("%s ordered the deletion of this workspace. On %s all its lists, runs, results, policies, keys and catalogue entries are gone for good. Until then everything works as before, and an owner can stop it on the Team page. Export the workspace before that if you want to keep anything.",
				c.Name, at.UTC().Format("2 January 2006, 15:04 MST"))})
	})
}

// KeepWorkspace stops the deletion of the caller's workspace.
func (a *Accounts) KeepWorkspace(ctx context.Context, c Caller) error {
	err := a.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.StopDeletion(ctx, c.WorkspaceID); err != nil {
			return err
		}
		return a.Happened(ctx, s, tx, event.Event{Code: event.WorkspaceKept, Workspace: c.WorkspaceID, Data: event.Data{Person: c.Name}, Says: c.Name + " stopped the deletion of this workspace. It stays as it is."})
	})
	if errors.Is(err, store.ErrNotFound) {
		return refuse(Conflict, "This workspace is not about to be deleted.")
	}
	return err
}

package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/rule"
)

// Team is a workspace as its people see it.
type Team struct {
	ID            int64
	Name          string
	SecondFactor  bool // its people must have one
	ReadersExport bool
	MaxRows       *int64
	CreatedAt     time.Time
	// DeleteAt is when it is deleted, and DeleteBy who ordered that; nil: it is not.
	DeleteAt *time.Time
	DeleteBy string
}

const teamColumns = "id, name, second_factor, readers_export, max_rows, created_at, delete_at, delete_by"

// Team returns a workspace.
func (s *Store) Team(ctx context.Context, id int64) (Team, error) {
	return one[Team](ctx, s.db, "SELECT "+teamColumns+" FROM workspace WHERE id = $1", id)
}

// NewWorkspace makes a workspace, with an allowance where the installation gives new ones a plan.
func (s *Store) NewWorkspace(ctx context.Context, name string) (Team, error) {
	return one[Team](ctx, s.db, `WITH made AS (INSERT INTO workspace (name) VALUES ($1) RETURNING *),
		kept AS (INSERT INTO allowance (workspace_id, plan_id, since) SELECT id, default_plan, now() FROM made, billing WHERE default_plan IS NOT NULL)
		SELECT `+teamColumns+" FROM made", name)
}

// WorkspaceNamed returns the oldest workspace of that name, which is made if need be.
func (s *Store) WorkspaceNamed(ctx context.Context, name string) (t Team, err error) {
	t, err = one[Team](ctx, s.db, "SELECT "+teamColumns+" FROM workspace WHERE name = $1 AND ended_at IS NULL ORDER BY id LIMIT 1", name)
	if err == ErrNotFound {
		return s.NewWorkspace(ctx, name)
	}
	return t, err
}

// SetTeam changes the name of a workspace and what its people must and may.
func (s *Store) SetTeam(ctx context.Context, t Team) error {
	return s.changed(ctx, "UPDATE workspace SET name = $2, second_factor = $3, readers_export = $4 WHERE id = $1", t.ID, t.Name, t.SecondFactor, t.ReadersExport)
}

// OwnRules returns the outbound rules of a workspace.
func (s *Store) OwnRules(ctx context.Context, workspace int64) ([]rule.Rule, error) {
	t, err := one[struct{ Rules []rule.Rule }](ctx, s.db, "SELECT rules FROM workspace WHERE id = $1", workspace)
	return t.Rules, err
}

// SetOwnRules replaces them.
func (s *Store) SetOwnRules(ctx context.Context, workspace int64, rules []rule.Rule) error {
	return s.changed(ctx, "UPDATE workspace SET rules = $2 WHERE id = $1", workspace, rules)
}

// Membership is a workspace that somebody is in.
type Membership struct {
	WorkspaceID int64
	Name        string
	Role        string
	DeleteAt    *time.Time // when the workspace is deleted
	Guided      bool       // whether it is past its first steps
}

// Memberships returns the workspaces of a person by name.
func (s *Store) Memberships(ctx context.Context, person int64) ([]Membership, error) {
	return many[Membership](ctx, s.db, "SELECT m.workspace_id, w.name, m.role, w.delete_at, w.guided_at IS NOT NULL AS guided FROM member m JOIN workspace w ON w.id = m.workspace_id WHERE m.person_id = $1 ORDER BY w.name, w.id", person)
}

// Member is a person in a workspace.
type Member struct {
	PersonID  int64
	Name      string
	Address   string
	Role      string
	HasFactor bool
	JoinedAt  time.Time
	SeenAt    *time.Time // when they last used the service
}

// Members returns the people of a workspace by name.
func (s *Store) Members(ctx context.Context, workspace int64) ([]Member, error) {
	return many[Member](ctx, s.db, `SELECT p.id AS person_id, p.name, p.address, m.role, m.joined_at,
		p.totp IS NOT NULL OR EXISTS (SELECT FROM passkey k WHERE k.person_id = p.id) AS has_factor,
		(SELECT max(seen_at) FROM person_session s WHERE s.person_id = p.id) AS seen_at
		FROM member m JOIN person p ON p.id = m.person_id WHERE m.workspace_id = $1 ORDER BY p.name, p.id`, workspace)
}

// Join makes a person a member of a workspace; one who is stays as they are.
func (s *Store) Join(ctx context.Context, workspace, person int64, role string) error {
	_, err := s.db.Exec(ctx, "INSERT INTO member (workspace_id, person_id, role) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", workspace, person, role)
	return err
}

// ChangeTeam calls do while nobody else changes who is in a workspace, with how many owners
// it has: what do decides on that holds.
func (s *Store) ChangeTeam(ctx context.Context, workspace int64, do func(s *Store, tx pgx.Tx, owners int) error) error {
	return s.InTx(ctx, func(s *Store, tx pgx.Tx) error {
		var owners int
		if _, err := s.db.Exec(ctx, "SELECT FROM workspace WHERE id = $1 FOR UPDATE", workspace); err != nil {
			return err
		}
		if err := s.db.QueryRow(ctx, "SELECT count(*) FROM member WHERE workspace_id = $1 AND role = 'owner'", workspace).Scan(&owners); err != nil {
			return err
		}
		return do(s, tx, owners)
	})
}

// RoleOf returns the role of a person in a workspace; ErrNotFound where they are not in it.
func (s *Store) RoleOf(ctx context.Context, workspace, person int64) (role string, err error) {
	m, err := one[struct{ Role string }](ctx, s.db, "SELECT role FROM member WHERE workspace_id = $1 AND person_id = $2", workspace, person)
	return m.Role, err
}

// SetRole changes the role of a member.
func (s *Store) SetRole(ctx context.Context, workspace, person int64, role string) error {
	return s.changed(ctx, "UPDATE member SET role = $3 WHERE workspace_id = $1 AND person_id = $2", workspace, person, role)
}

// RemoveMember takes a person out of a workspace. What they made stays; so do keys, which are
// the team's.
func (s *Store) RemoveMember(ctx context.Context, workspace, person int64) error {
	err := s.changed(ctx, "DELETE FROM member WHERE workspace_id = $1 AND person_id = $2", workspace, person)
	if err == nil {
		_, err = s.db.Exec(ctx, "UPDATE person_session SET workspace_id = NULL WHERE workspace_id = $1 AND person_id = $2", workspace, person)
	}
	return err
}

// Invitation is one to join a workspace.
type Invitation struct {
	ID          int64
	WorkspaceID int64
	Workspace   string
	Address     string
	Canonical   string
	Role        string
	InvitedBy   *string // the name of who did
	CreatedAt   time.Time
	ExpiresAt   time.Time
}

const invitationColumns = `i.id, i.workspace_id, w.name AS workspace, i.address, i.canonical, i.role, (SELECT name FROM person WHERE id = i.invited_by) AS invited_by, i.created_at, i.expires_at
	FROM invitation i JOIN workspace w ON w.id = i.workspace_id `

// Invite records an invitation in the place of an earlier one to the same address, and returns
// the secret for its link.
func (s *Store) Invite(ctx context.Context, i Invitation, by int64) (text string, err error) {
	text, hash := secret("")
	_, err = s.db.Exec(ctx, `INSERT INTO invitation (workspace_id, address, canonical, role, hash, invited_by, expires_at) VALUES ($1, $2, $3, $4, $5, $6, $7)
		ON CONFLICT (workspace_id, canonical) DO UPDATE SET address = $2, role = $4, hash = $5, invited_by = $6, created_at = now(), expires_at = $7`,
		i.WorkspaceID, i.Address, i.Canonical, i.Role, hash, by, i.ExpiresAt)
	return text, err
}

// Invitations returns the open invitations of a workspace, the newest first.
func (s *Store) Invitations(ctx context.Context, workspace int64) ([]Invitation, error) {
	return many[Invitation](ctx, s.db, "SELECT "+invitationColumns+"WHERE i.workspace_id = $1 ORDER BY i.id DESC", workspace)
}

// Invitation returns the invitation of a link, if it is good.
func (s *Store) Invitation(ctx context.Context, secret string) (Invitation, error) {
	return one[Invitation](ctx, s.db, "SELECT "+invitationColumns+"WHERE i.hash = $1 AND i.expires_at > now()", hashed(secret))
}

// TakeInvitation ends an invitation that is good; ErrNotFound where another came first.
func (s *Store) TakeInvitation(ctx context.Context, secret string) error {
	return s.changed(ctx, "DELETE FROM invitation WHERE hash = $1 AND expires_at > now()", hashed(secret))
}

// Uninvite withdraws an invitation.
func (s *Store) Uninvite(ctx context.Context, workspace, id int64) error {
	return s.changed(ctx, "DELETE FROM invitation WHERE workspace_id = $1 AND id = $2", workspace, id)
}

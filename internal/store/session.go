package store

import (
	"context"
	"errors"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"
)

// How long a session lasts: so long without being used, and so long in all.
const (
	SessionIdle = 7 * 24 * time.Hour
	SessionLife = 30 * 24 * time.Hour
)

// Session is a person signed in with a browser, or by the command line.
type Session struct {
	ID          int64
	PersonID    int64
	WorkspaceID *int64 // the one the person is at work in; nil: none
	Device      string
	Place       netip.Addr // from where it was used last
	CommandLine bool
	CreatedAt   time.Time
	SeenAt      time.Time
	ConfirmedAt time.Time // when the person last proved who they are
}

const sessionColumns = "id, person_id, workspace_id, device, place, command_line, created_at, seen_at, confirmed_at"

// NewSession signs a person in. Of the secret that is returned only a hash is kept. The
// session opens in a workspace, or in the one the person joined first.
func (s *Store) NewSession(ctx context.Context, n Session) (string, error) {
	text, hash := secret("")
	_, err := s.db.Exec(ctx, `INSERT INTO person_session (hash, person_id, workspace_id, device, place, command_line, expires_at)
		VALUES ($1, $2, coalesce($3, (SELECT workspace_id FROM member WHERE person_id = $2 ORDER BY joined_at, workspace_id LIMIT 1)), $4, $5, $6, $7)`,
		hash, n.PersonID, n.WorkspaceID, n.Device, n.Place, n.CommandLine, time.Now().Add(SessionLife))
	return text, err
}

// SessionsOf returns the sessions of a person that are good, the latest used first.
func (s *Store) SessionsOf(ctx context.Context, person int64) ([]Session, error) {
	return many[Session](ctx, s.db, "SELECT "+sessionColumns+" FROM person_session WHERE person_id = $1 AND expires_at > now() AND seen_at > $2 ORDER BY seen_at DESC, id DESC",
		person, time.Now().Add(-SessionIdle))
}

// EndSession ends the session with that secret.
func (s *Store) EndSession(ctx context.Context, session string) error {
	_, err := s.db.Exec(ctx, "DELETE FROM person_session WHERE hash = $1", hashed(session))
	return err
}

// EndSessionOf ends one session of a person.
func (s *Store) EndSessionOf(ctx context.Context, person, id int64) error {
	return s.changed(ctx, "DELETE FROM person_session WHERE person_id = $1 AND id = $2", person, id)
}

// EndSessions ends all sessions of a person but one (0: all).
func (s *Store) EndSessions(ctx context.Context, person, but int64) (int64, error) {
	tag, err := s.db.Exec(ctx, "DELETE FROM person_session WHERE person_id = $1 AND id <> $2", person, but)
	return tag.RowsAffected(), err
}

// ConfirmSession records that the person has just proved who they are.
func (s *Store) ConfirmSession(ctx context.Context, id int64) error {
	return s.changed(ctx, "UPDATE person_session SET confirmed_at = now() WHERE id = $1", id)
}

// EnterWorkspace has a session work in a workspace of the person's.
func (s *Store) EnterWorkspace(ctx context.Context, session, person, workspace int64) error {
	return s.changed(ctx, `UPDATE person_session SET workspace_id = $3 WHERE id = $1 AND person_id = $2
		AND EXISTS (SELECT FROM member WHERE workspace_id = $3 AND person_id = $2)`, session, person, workspace)
}

// SignedIn is a session with its person and, where the person is a member of the workspace
// that it works in, that and their role.
type SignedIn struct {
	Session
	Name          string
	Address       string
	Owner         bool // of the installation
	HasFactor     bool // a second factor, or a passkey
	Workspace     *string
	Role          *string
	SecondFactor  *bool // whether the workspace demands one
	ReadersExport *bool
	Allowance     bool // one is kept of the workspace
}

// SessionOf returns who is signed in with a secret; ErrUnknownKey where it is none, or no
// longer good.
func (s *Store) SessionOf(ctx context.Context, session string, from netip.Addr) (in SignedIn, err error) {
	in, err = one[SignedIn](ctx, s.db, `SELECT s.id, s.person_id, s.device, s.place, s.command_line, s.created_at, s.seen_at, s.confirmed_at, p.name, p.address, p.owner,
		p.totp IS NOT NULL OR EXISTS (SELECT FROM passkey k WHERE k.person_id = p.id) AS has_factor,
		m.workspace_id, w.name AS workspace, m.role, w.second_factor, w.readers_export,
		EXISTS (SELECT FROM allowance a WHERE a.workspace_id = w.id AND a.kept) AS allowance
		FROM person_session s JOIN person p ON p.id = s.person_id
		LEFT JOIN member m ON m.workspace_id = s.workspace_id AND m.person_id = s.person_id LEFT JOIN workspace w ON w.id = m.workspace_id
		WHERE s.hash = $1 AND s.expires_at > now() AND s.seen_at > $2`, hashed(session), time.Now().Add(-SessionIdle))
	if errors.Is(err, ErrNotFound) {
		return in, ErrUnknownKey
	}
	if err == nil && (time.Since(in.SeenAt) > usedEvery || in.Place != from) {
		_, err = s.db.Exec(ctx, "UPDATE person_session SET seen_at = now(), place = $2 WHERE id = $1", in.ID, from)
	}
	return in, err
}

// StillIn reports whether a key (0: none) or a session is good, and works in a workspace.
func (s *Store) StillIn(ctx context.Context, workspace, key, session int64) (in bool, err error) {
	err = s.db.QueryRow(ctx, `SELECT EXISTS (SELECT FROM key WHERE id = $2 AND workspace_id = $1 AND (expires_at IS NULL OR expires_at > now()))
		OR EXISTS (SELECT FROM person_session s JOIN member m USING (workspace_id, person_id) WHERE s.id = $3 AND workspace_id = $1 AND expires_at > now())`, workspace, key, session).Scan(&in)
	return in, err
}

// Ticket is what stands between two steps of signing in.
type Ticket struct {
	Kind      string
	PersonID  *int64
	Code      []byte // keyed hash of the code that goes with it
	Tries     int    // wrong codes so far
	Data      []byte // sealed
	At        time.Time
	ExpiresAt time.Time
}

const ticketColumns = "kind, person_id, code, tries, data, at, expires_at"

// NewTicket records a ticket and returns its secret.
func (s *Store) NewTicket(ctx context.Context, t Ticket) (string, error) {
	text, hash := secret("")
	_, err := s.db.Exec(ctx, "INSERT INTO ticket (hash, kind, person_id, code, data, expires_at) VALUES ($1, $2, $3, $4, $5, $6)", hash, t.Kind, t.PersonID, t.Code, t.Data, t.ExpiresAt)
	return text, taken(err)
}

// Ticket returns a ticket of a kind that is good; ErrNotFound where there is none.
func (s *Store) Ticket(ctx context.Context, kind, secret string) (Ticket, error) {
	return one[Ticket](ctx, s.db, "SELECT "+ticketColumns+" FROM ticket WHERE kind = $1 AND hash = $2 AND expires_at > now()", kind, hashed(secret))
}

// TakeTicket returns a ticket and ends it, so that of two who come at once one has it.
func (s *Store) TakeTicket(ctx context.Context, kind, secret string) (Ticket, error) {
	return one[Ticket](ctx, s.db, "DELETE FROM ticket WHERE kind = $1 AND hash = $2 AND expires_at > now() RETURNING "+ticketColumns, kind, hashed(secret))
}

// TryCode counts a try of the code that goes with a ticket, before it is compared: of so many
// at once none is for free. ErrNotFound where the ticket is gone or has no tries left.
func (s *Store) TryCode(ctx context.Context, kind, secret string, most int) (Ticket, error) {
	return one[Ticket](ctx, s.db, "UPDATE ticket SET tries = tries + 1 WHERE kind = $1 AND hash = $2 AND expires_at > now() AND tries < $3 RETURNING "+ticketColumns, kind, hashed(secret), most)
}

// DeviceTicket returns the ticket of a device that waits to be let in, by its short code.
func (s *Store) DeviceTicket(ctx context.Context, code []byte) (Ticket, error) {
	return one[Ticket](ctx, s.db, "SELECT "+ticketColumns+" FROM ticket WHERE kind = 'device' AND code = $1 AND expires_at > now() AND person_id IS NULL", code)
}

// LetDeviceIn lets a device in as a person; ErrNotFound where it waits no longer. No person
// (0) turns it away.
func (s *Store) LetDeviceIn(ctx context.Context, code []byte, person int64) error {
	if person == 0 {
		return s.changed(ctx, "DELETE FROM ticket WHERE kind = 'device' AND code = $1 AND person_id IS NULL", code)
	}
	return s.changed(ctx, "UPDATE ticket SET person_id = $2 WHERE kind = 'device' AND code = $1 AND person_id IS NULL AND expires_at > now()", code, person)
}

// SeeTicket records that a ticket was asked for, and returns when it was before.
func (s *Store) SeeTicket(ctx context.Context, kind, secret string) (before time.Time, err error) {
	err = s.db.QueryRow(ctx, `UPDATE ticket t SET at = now() FROM (SELECT hash, at FROM ticket WHERE kind = $1 AND hash = $2 FOR UPDATE) o WHERE t.hash = o.hash RETURNING o.at`,
		kind, hashed(secret)).Scan(&before)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return before, err
}

// EndTickets ends all tickets of a kind, so that the newest alone is good.
func (s *Store) EndTickets(ctx context.Context, kind string) error {
	_, err := s.db.Exec(ctx, "DELETE FROM ticket WHERE kind = $1", kind)
	return err
}

// AttemptsBlocked returns until when none of the subjects may be tried; zero where all may.
func (s *Store) AttemptsBlocked(ctx context.Context, subjects [][]byte) (until time.Time, err error) {
	var at *time.Time
	err = s.db.QueryRow(ctx, "SELECT max(blocked_until) FROM attempt WHERE subject = ANY ($1) AND blocked_until > now()", subjects).Scan(&at)
	if at != nil {
		until = *at
	}
	return until, err
}

// CountAttempt counts a try of a subject and returns how many there were without a pause
// as long as rest; with this one.
func (s *Store) CountAttempt(ctx context.Context, subject []byte, rest time.Duration) (n int, err error) {
	err = s.db.QueryRow(ctx, `INSERT INTO attempt (subject, failures) VALUES ($1, 1) ON CONFLICT (subject) DO UPDATE
		SET failures = CASE WHEN attempt.at < now() - $2::interval THEN 1 ELSE attempt.failures + 1 END, at = now() RETURNING failures`, subject, rest).Scan(&n)
	return n, err
}

// BlockAttempts lets a subject not be tried until a time.
func (s *Store) BlockAttempts(ctx context.Context, subject []byte, until time.Time) error {
	_, err := s.db.Exec(ctx, "UPDATE attempt SET blocked_until = greatest(blocked_until, $2) WHERE subject = $1", subject, until)
	return err
}

// ForgetAttempts forgets the tries of a subject.
func (s *Store) ForgetAttempts(ctx context.Context, subject []byte) error {
	_, err := s.db.Exec(ctx, "DELETE FROM attempt WHERE subject = $1", subject)
	return err
}

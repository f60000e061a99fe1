package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
)

// Event is an event as it is kept.
type Event struct {
	Seq         int64  // counts them as they are told; later ones have higher numbers
	ID          string // by which receivers know repeats
	WorkspaceID *int64
	PersonID    *int64
	Code        event.Code
	Thing       string
	Data        event.Data
	Subject     string
	Says        string
	Quiet       bool // no notice and no letter
	At          time.Time
}

const eventColumns = "seq, id::text, workspace_id, person_id, code, thing, data, subject, says, quiet, at"

// AddEvent records an event and returns its number. It belongs in the transaction that made
// it so.
func (s *Store) AddEvent(ctx context.Context, e event.Event) (seq int64, err error) {
	err = s.db.QueryRow(ctx, `INSERT INTO event (workspace_id, person_id, code, thing, data, subject, says, quiet)
		VALUES (nullif($1, 0), nullif($2, 0), $3, $4, $5, $6, $7, $8) RETURNING seq`,
		e.Workspace, e.Person, e.Code, e.Thing(), e.Data, e.Subject(), e.Says, e.Quiet).Scan(&seq)
	return seq, err
}

// UntoldEvent returns an event that is not told yet; ErrNotFound for one that is.
func (s *Store) UntoldEvent(ctx context.Context, seq int64) (Event, error) {
	return one[Event](ctx, s.db, "SELECT "+eventColumns+" FROM event WHERE seq = $1 AND told_at IS NULL", seq)
}

// Event returns an event.
func (s *Store) Event(ctx context.Context, seq int64) (Event, error) {
	return one[Event](ctx, s.db, "SELECT "+eventColumns+" FROM event WHERE seq = $1", seq)
}

// EarlierUntold reports whether an event about the same thing happened before this one, not long ago, and is not told yet.
func (s *Store) EarlierUntold(ctx context.Context, e Event) (is bool, err error) {
	err = s.db.QueryRow(ctx, `SELECT EXISTS (SELECT FROM event WHERE thing = $1 AND workspace_id IS NOT DISTINCT FROM $2 AND person_id IS NOT DISTINCT FROM $3
		AND seq < $4 AND told_at IS NULL AND at > now() - make_interval(secs => $5))`, e.Thing, e.WorkspaceID, e.PersonID, e.Seq, inOrderFor.Seconds()).Scan(&is)
	return is, err
}

// inOrderFor is for how long one that cannot be told keeps others about the same thing waiting.
const inOrderFor = time.Minute

// tellLock is the advisory lock under which events are told, one after the other.
const tellLock = 0x76_74_65_6c_6c // "vtell"

// TellEvent records that an event is told, and in which sentences, and returns the number that it has from then on;
// ErrNotFound where it was told before. It belongs in a short transaction: others wait until it ends. Whoever has read as
// far as one number never asks for those below it: where a later event was told before, this one gets the next number.
func (s *Store) TellEvent(ctx context.Context, seq int64, says string) (told int64, err error) {
	const tell, untold = "UPDATE event SET told_at = now(), says = $2", " WHERE seq = $1 AND told_at IS NULL"
	err = s.ask(ctx, change("SELECT pg_advisory_xact_lock($1)", int64(tellLock)),
		row([]any{&told}, tell+untold+" AND seq > coalesce((SELECT seq FROM event WHERE told_at IS NOT NULL ORDER BY seq DESC LIMIT 1), 0) RETURNING seq", seq, says),
		row([]any{&told}, tell+", seq = DEFAULT"+untold+" RETURNING seq", seq, says))
	if err == nil && told == 0 {
		err = ErrNotFound
	}
	return told, err
}

// Happened reports whether there is an event of a kind about a thing.
func (s *Store) Happened(ctx context.Context, thing string, code event.Code) (is bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM event WHERE thing = $1 AND code = $2)", thing, code).Scan(&is)
	return is, err
}

// eventDays is for how long events are kept.
const eventDays = 90

// ForgetEvents deletes old events, with their deliveries.
func (s *Store) ForgetEvents(ctx context.Context) error {
	_, err := s.db.Exec(ctx, "DELETE FROM event WHERE at < now() - make_interval(days => $1)", eventDays)
	return err
}

// View is whose events are looked at: those of a workspace, of a person, and of the
// installation, of the kinds that they are for.
type View struct {
	Workspace int64
	Person    int64 // 0: a program
	Codes     []event.Code
	Operators []event.Code // of the installation
}

// visible tells in SQL that an event is in a view; it takes $1 to $4.
const visible = `told_at IS NOT NULL AND (workspace_id = $1 AND person_id IS NULL AND code = ANY ($3)
	OR person_id = $2 AND (workspace_id IS NULL OR workspace_id = $1) OR workspace_id IS NULL AND person_id IS NULL AND code = ANY ($4))`

func (v View) args(more ...any) []any {
	return append([]any{v.Workspace, v.Person, v.Codes, v.Operators}, more...)
}

// Events returns a page of the events of a view after a number, the oldest first.
func (s *Store) Events(ctx context.Context, v View, after int64, limit int) ([]Event, error) {
	return many[Event](ctx, s.db, "SELECT "+eventColumns+" FROM event WHERE seq > $5 AND "+visible+" ORDER BY seq LIMIT $6", v.args(after, limit)...)
}

// NoticeGroup is the newest event of a kind about a thing, and how many there are with it.
type NoticeGroup struct {
	Event
	Count  int64
	Unread int64
}

// noticeDays and noticeEvents bound what is shown as notices.
const (
	noticeDays   = 30
	noticeEvents = 500
)

// NoticeGroups returns the notices of a person, the newest group first.
func (s *Store) NoticeGroups(ctx context.Context, v View, limit int) ([]NoticeGroup, error) {
	return many[NoticeGroup](ctx, s.db, `WITH shown AS (
			SELECT `+eventColumns+`, seq > coalesce((SELECT upto FROM notices_seen n WHERE n.person_id = $2 AND n.workspace_id = coalesce(event.workspace_id, 0)), 0)
				AND NOT EXISTS (SELECT FROM notice_seen n WHERE n.person_id = $2 AND n.seq = event.seq) AS unread
			FROM event WHERE at > now() - make_interval(days => $5) AND NOT quiet AND `+visible+` ORDER BY seq DESC LIMIT $6
		), grouped AS (
			SELECT *, row_number() OVER newest AS place, count(*) OVER alike AS number, count(*) FILTER (WHERE unread) OVER alike AS open FROM shown
			WINDOW alike AS (PARTITION BY thing, code), newest AS (PARTITION BY thing, code ORDER BY seq DESC)
		) SELECT seq, id, workspace_id, person_id, code, thing, data, subject, says, quiet, at, number AS count, open AS unread FROM grouped WHERE place = 1 ORDER BY seq DESC LIMIT $7`,
		v.args(noticeDays, noticeEvents, limit)...)
}

// SeeNotices records that a person has seen the notices like one, up to it; SeeAllNotices all
// up to a number.
func (s *Store) SeeNotices(ctx context.Context, v View, seq int64) error {
	_, err := s.db.Exec(ctx, `INSERT INTO notice_seen (person_id, seq) SELECT $2, e.seq FROM event e, (SELECT thing, code FROM event WHERE seq = $5 AND `+visible+`) like_it
		WHERE e.thing = like_it.thing AND e.code = like_it.code AND e.seq <= $5 AND (e.workspace_id = $1 OR e.workspace_id IS NULL) ON CONFLICT DO NOTHING`, v.args(seq)...)
	return err
}

func (s *Store) SeeAllNotices(ctx context.Context, v View, upto int64) error {
	_, err := s.db.Exec(ctx, `INSERT INTO notices_seen (person_id, workspace_id, upto) SELECT $1, w, $3 FROM unnest(ARRAY[0, $2]::bigint[]) w
		ON CONFLICT (person_id, workspace_id) DO UPDATE SET upto = greatest(notices_seen.upto, EXCLUDED.upto)`, v.Person, v.Workspace, upto)
	return err
}

// Reader is a person whom an event is for, and how they want letters about it.
type Reader struct {
	PersonID   int64
	Name       string
	Address    string
	Zone       string
	DailyHour  int
	WithReport bool
	Choice     *event.Choice // nil: what holds for those who have not chosen
}

// Readers returns the persons whom an event is for: those of its workspace with one of some
// roles, the owners of the installation, or the one person.
func (s *Store) Readers(ctx context.Context, e Event, roles []string) ([]Reader, error) {
	return many[Reader](ctx, s.db, `SELECT p.id AS person_id, p.name, p.address, p.zone, p.daily_hour, p.with_report,
			(SELECT choice FROM letter_choice c WHERE c.person_id = p.id AND c.workspace_id = coalesce($1, 0) AND c.code = $4) AS choice
		FROM person p WHERE CASE WHEN $2::bigint IS NOT NULL THEN p.id = $2
			WHEN $1::bigint IS NULL THEN p.owner
			ELSE EXISTS (SELECT FROM member m WHERE m.person_id = p.id AND m.workspace_id = $1 AND m.role = ANY ($3)) END ORDER BY p.id`,
		e.WorkspaceID, e.PersonID, roles, e.Code)
}

// Reader returns a person as a reader of an event, if it still is for them.
func (s *Store) Reader(ctx context.Context, e Event, roles []string, person int64) (Reader, error) {
	readers, err := s.Readers(ctx, e, roles)
	for _, r := range readers {
		if r.PersonID == person {
			return r, err
		}
	}
	if err == nil {
		err = ErrNotFound
	}
	return Reader{}, err
}

// LetterWishes are how a person wants letters.
type LetterWishes struct {
	Zone       string
	DailyHour  int
	WithReport bool
}

// LetterWishes returns them, and what a person chose for the events of a workspace (0: of the
// installation).
func (s *Store) LetterWishes(ctx context.Context, person, workspace int64) (w LetterWishes, choices map[event.Code]event.Choice, err error) {
	if w, err = one[LetterWishes](ctx, s.db, "SELECT zone, daily_hour, with_report FROM person WHERE id = $1", person); err != nil {
		return w, nil, err
	}
	chosen, err := many[struct {
		Code   event.Code
		Choice event.Choice
	}](ctx, s.db, "SELECT code, choice FROM letter_choice WHERE person_id = $1 AND workspace_id IN (0, $2)", person, workspace)
	choices = map[event.Code]event.Choice{}
	for _, c := range chosen {
		choices[c.Code] = c.Choice
	}
	return w, choices, err
}

// SetLetterWishes records them, with the choices for one workspace; workspaceOf tells for
// each code whether its events are those of a workspace.
func (s *Store) SetLetterWishes(ctx context.Context, person int64, w LetterWishes, choices map[event.Code]event.Choice, workspaceOf func(event.Code) int64) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if err := s.changed(ctx, "UPDATE person SET zone = $2, daily_hour = $3, with_report = $4 WHERE id = $1", person, w.Zone, w.DailyHour, w.WithReport); err != nil {
			return err
		}
		for code, choice := range choices {
			if _, err := s.db.Exec(ctx, `INSERT INTO letter_choice (person_id, workspace_id, code, choice) VALUES ($1, $2, $3, $4)
				ON CONFLICT (person_id, workspace_id, code) DO UPDATE SET choice = EXCLUDED.choice`, person, workspaceOf(code), code, choice); err != nil {
				return err
			}
		}
		return nil
	})
}

// AddDaily puts an event into a person's next daily letter, which goes at a time.
func (s *Store) AddDaily(ctx context.Context, person, seq int64, due time.Time) error {
	_, err := s.db.Exec(ctx, "INSERT INTO daily_letter (person_id, seq, due_at) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", person, seq, due)
	return err
}

// TakeDaily takes what is due of the daily letter of the person who has waited longest, with
// the numbers of the events; ErrNotFound where nobody's is.
func (s *Store) TakeDaily(ctx context.Context, now time.Time) (person int64, seqs []int64, err error) {
	err = s.db.QueryRow(ctx, `WITH next AS (SELECT person_id FROM daily_letter WHERE due_at <= $1 ORDER BY due_at LIMIT 1), taken AS (
			DELETE FROM daily_letter d USING next WHERE d.person_id = next.person_id AND d.due_at <= $1 RETURNING d.person_id, d.seq)
		SELECT person_id, array_agg(seq ORDER BY seq) FROM taken GROUP BY person_id`, now).Scan(&person, &seqs)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return person, seqs, err
}

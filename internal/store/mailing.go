package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/bounce"
)

// The states of a mailing.
const (
	MailingPreparing = "preparing" // who it went to is still being written down
	MailingExported  = "exported"  // it is known to whom it goes; it is sent later, by others
	MailingSending   = "sending"   // its trial letters are on their way
	MailingWatching  = "watching"  // bounces are waited for
	MailingClosed    = "closed"    // the watch is over
)

// Mailing is messages that were really sent, one to each of its addresses.
type Mailing struct {
	ID          int64
	WorkspaceID int64
	Name        string
	ListID      *int64 // the list whose kept rows it went to; nil: it is gone, or it went to others
	RunID       *int64
	SentAt      time.Time
	WatchHours  int
	State       string
	Decisions   []string // of the rows of the run that it went to
	Letters     int64
	Says        string
	Trial       *Trial // nil: it was sent by others
	SendLater   bool   // it was written down before it was sent
	ByWhom      string
	CreatedAt   time.Time
	ClosedAt    *time.Time
}

// WatchUntil is until when its bounces are waited for.
func (m Mailing) WatchUntil() time.Time {
	return m.SentAt.Add(time.Duration(m.WatchHours) * time.Hour)
}

const mailingColumns = "id, workspace_id, name, list_id, run_id, sent_at, watch_hours, state, decisions, letters, says, trial, send_later, by_whom, created_at, closed_at"

// NewMailing records a mailing and gives it its ID.
func (s *Store) NewMailing(ctx context.Context, m *Mailing) error {
	return s.db.QueryRow(ctx, `INSERT INTO mailing (workspace_id, name, list_id, run_id, sent_at, watch_hours, state, decisions, letters, says, trial, send_later, by_whom)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) RETURNING id, created_at`,
		m.WorkspaceID, m.Name, m.ListID, m.RunID, m.SentAt, m.WatchHours, m.State, append([]string{}, m.Decisions...), m.Letters, m.Says, m.Trial, m.SendLater, m.ByWhom).Scan(&m.ID, &m.CreatedAt)
}

// Mailing returns a mailing of a workspace.
func (s *Store) Mailing(ctx context.Context, workspace, id int64) (Mailing, error) {
	return one[Mailing](ctx, s.db, "SELECT "+mailingColumns+" FROM mailing WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// MailingAtWork returns a mailing to the job that works on it.
func (s *Store) MailingAtWork(ctx context.Context, id int64) (Mailing, error) {
	return one[Mailing](ctx, s.db, "SELECT "+mailingColumns+" FROM mailing WHERE id = $1", id)
}

// Mailings returns the newest mailings of a workspace before one (0: the newest of all), of
// a list or (0) of any.
func (s *Store) Mailings(ctx context.Context, workspace, list, before int64, limit int) ([]Mailing, error) {
	return many[Mailing](ctx, s.db, "SELECT "+mailingColumns+` FROM mailing WHERE workspace_id = $1 AND ($2::bigint = 0 OR list_id = $2) AND ($3::bigint = 0 OR id < $3)
		ORDER BY id DESC LIMIT $4`, workspace, list, before, limit)
}

// SetMailing records where a mailing stands, if it stands where it is thought to.
func (s *Store) SetMailing(ctx context.Context, m Mailing, from string) error {
	return s.changed(ctx, "UPDATE mailing SET state = $2, letters = $3, says = $4, closed_at = $5, sent_at = $6 WHERE id = $1 AND state = $7",
		m.ID, m.State, m.Letters, m.Says, m.ClosedAt, m.SentAt, from)
}

// BeginWatches begins the watches of those of some mailings that were to be sent later, as
// sent at a time.
func (s *Store) BeginWatches(ctx context.Context, ids []int64, sent time.Time) error {
	_, err := s.db.Exec(ctx, "UPDATE mailing SET state = $2, sent_at = $3 WHERE id = ANY($1) AND state = $4", ids, MailingWatching, sent, MailingExported)
	return err
}

// EachLetter calls do for each letter of a mailing, in their order.
func (s *Store) EachLetter(ctx context.Context, mailing int64, do func(Mailed) error) error {
	for after := 0; ; {
		some, err := s.MailedOf(ctx, mailing, MailedFilter{After: after, Limit: lettersAtOnce})
		if err != nil {
			return err
		}
		for _, l := range some {
			if after = l.Number; l.Mailbox == "" { // it was erased
				continue
			}
			if err := do(l); err != nil {
				return err
			}
		}
		if len(some) < lettersAtOnce {
			return nil
		}
	}
}

// lettersAtOnce is how many letters are read at once.
const lettersAtOnce = 5000

// TellBounces marks a mailing as told of whose letters more than a share has bounced, in per
// cent; ok is false where that is not so, was told before, or the mailing is small.
func (s *Store) TellBounces(ctx context.Context, id, least int64, percent int) (m Mailing, ok bool, err error) {
	m, err = one[Mailing](ctx, s.db, `UPDATE mailing SET told = true WHERE id = $1 AND NOT told AND letters >= $2
		AND (SELECT count(*) FROM mailed WHERE mailing_id = $1 AND outcome = 'bounced') * 100 > letters * $3 RETURNING `+mailingColumns, id, least, percent)
	if errors.Is(err, ErrNotFound) {
		return m, false, nil
	}
	return m, err == nil, err
}

// DeleteMailing deletes a mailing with all its letters. What is known of their addresses
// stays.
func (s *Store) DeleteMailing(ctx context.Context, workspace, id int64) error {
	return s.changed(ctx, "DELETE FROM mailing WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// DueMailings returns mailings whose watch is over and that are not closed.
func (s *Store) DueMailings(ctx context.Context, now time.Time, limit int) ([]Mailing, error) {
	return many[Mailing](ctx, s.db, "SELECT "+mailingColumns+` FROM mailing WHERE state = $1 AND sent_at + watch_hours * interval '1 hour' <= $2 ORDER BY id LIMIT $3`,
		MailingWatching, now, limit)
}

// ForgetMailings deletes the mailings of which nothing has been heard for as long as their
// workspace keeps lists, and the messages that came back with them.
func (s *Store) ForgetMailings(ctx context.Context) error {
	if _, err := s.db.Exec(ctx, "DELETE FROM mailing WHERE closed_at < now() - $1::interval", mailingsKept); err != nil {
		return err
	}
	if _, err := s.db.Exec(ctx, "DELETE FROM return_refused WHERE hour < now() - $1::interval", mailingsKept); err != nil {
		return err
	}
	_, err := s.db.Exec(ctx, "DELETE FROM returned WHERE received_at < now() - $1::interval", mailingsKept)
	return err
}

// mailingsKept is for how long a closed mailing and what came back are kept.
const mailingsKept = "400 days"

// Mailed is one letter of a mailing.
type Mailed struct {
	MailingID int64
	Number    int
	// Mailbox is the address as it was mailed, Canonical what decides identity.
	Mailbox, Canonical, Domain string
	Said                       int32 // the verdict it had; 0: none
	Tag, MessageID             *string
	Outcome                    bounce.Outcome // "" as long as none is known
	Permanent                  bool
	About, Cause               string
	Final, Words, Host         string
	At                         *time.Time
	ReturnedID                 *int64
	// Heard is how many messages came back about it.
	Heard int
}

const mailedColumns = "mailing_id, number, mailbox, canonical, domain, said, tag, message_id, outcome, permanent, about, cause, final, words, host, at, returned_id, heard"

// AddMailed records to whom a mailing went, as next returns them; an address that is there
// already is left out. It returns how many there were. It is for a transaction.
func (s *Store) AddMailed(ctx context.Context, m Mailing, next func() (*Mailed, error)) (n int64, err error) {
	if _, err := s.db.Exec(ctx, `CREATE TEMP TABLE mailed_new (number int, mailbox text, canonical text, domain text, said int, tag text, message_id text) ON COMMIT DROP`); err != nil {
		return 0, err
	}
	gone, err := s.Gone(ctx, m.WorkspaceID)
	if err != nil {
		return 0, err
	}
	number := 0
	_, err = s.db.CopyFrom(ctx, pgx.Identifier{"mailed_new"}, []string{"number", "mailbox", "canonical", "domain", "said", "tag", "message_id"}, pgx.CopyFromFunc(func() ([]any, error) {
		l, err := next()
		for err == nil && l != nil && gone != nil && gone.Is(l.Mailbox) {
			l, err = next()
		}
		if err != nil || l == nil {
			return nil, err
		}
		number++
		return []any{number, l.Mailbox, l.Canonical, l.Domain, l.Said, l.Tag, l.MessageID}, nil
	}))
	if err != nil {
		return 0, err
	}
	tag, err := s.db.Exec(ctx, `INSERT INTO mailed (mailing_id, number, workspace_id, mailbox, canonical, domain, said, tag, message_id)
		SELECT $1, number, $2, mailbox, canonical, domain, said, tag, message_id FROM mailed_new ORDER BY number ON CONFLICT DO NOTHING`, m.ID, m.WorkspaceID)
	return tag.RowsAffected(), err
}

// MailedTo returns the letters of a workspace to some addresses, or with some tags of return
// addresses, or some Message-IDs.
func (s *Store) MailedTo(ctx context.Context, workspace int64, canonicals, tags, messages []string) ([]Mailed, error) {
	return many[Mailed](ctx, s.db, "SELECT "+mailedColumns+` FROM mailed WHERE workspace_id = $1 AND canonical = ANY($2)
		UNION SELECT `+mailedColumns+` FROM mailed WHERE workspace_id = $1 AND tag = ANY($3)
		UNION SELECT `+mailedColumns+" FROM mailed WHERE workspace_id = $1 AND message_id = ANY($4)", workspace, canonicals, tags, messages)
}

// MailedByNumber returns letters of a workspace by the numbers of their mailings and their
// own.
func (s *Store) MailedByNumber(ctx context.Context, workspace int64, mailings []int64, numbers []int) ([]Mailed, error) {
	return many[Mailed](ctx, s.db, "SELECT "+mailedColumns+` FROM mailed WHERE workspace_id = $1
		AND (mailing_id, number) IN (SELECT * FROM unnest($2::bigint[], $3::int[]))`, workspace, mailings, numbers)
}

// CountHeard counts a message that came back about a letter.
func (s *Store) CountHeard(ctx context.Context, mailing int64, number int) error {
	return s.changed(ctx, "UPDATE mailed SET heard = heard + 1 WHERE mailing_id = $1 AND number = $2", mailing, number)
}

// CountRefused counts messages to return addresses that were refused for a wrong tag.
func (s *Store) CountRefused(ctx context.Context, at time.Time, n int64) error {
	_, err := s.db.Exec(ctx, `INSERT INTO return_refused (hour, refused) VALUES (date_trunc('hour', $1::timestamptz), $2)
		ON CONFLICT (hour) DO UPDATE SET refused = return_refused.refused + EXCLUDED.refused`, at, n)
	return err
}

// Refused returns how many messages were refused for a wrong tag since a time.
func (s *Store) Refused(ctx context.Context, since time.Time) (n int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT coalesce(sum(refused), 0)::bigint FROM return_refused WHERE hour >= date_trunc('hour', $1::timestamptz)", since).Scan(&n)
	return n, err
}

// SetMailed records what became of letters.
func (s *Store) SetMailed(ctx context.Context, letters []Mailed) error {
	b := &pgx.Batch{}
	for _, l := range letters {
		b.Queue(`UPDATE mailed SET outcome = $3, permanent = $4, about = $5, cause = $6, final = $7, words = $8, host = $9, at = $10, returned_id = $11 WHERE mailing_id = $1 AND number = $2`,
			l.MailingID, l.Number, string(l.Outcome), l.Permanent, l.About, l.Cause, l.Final, l.Words, l.Host, l.At, l.ReturnedID)
	}
	return s.db.SendBatch(ctx, b).Close()
}

// MailedFilter chooses letters of a mailing.
type MailedFilter struct {
	Outcome   string // "open": none yet; "": any
	Permanent *bool
	Domain    string
	After     int // the number of the letter before
	Limit     int
}

// MailedOf returns letters of a mailing in their order.
func (s *Store) MailedOf(ctx context.Context, mailing int64, f MailedFilter) ([]Mailed, error) {
	outcome, any := f.Outcome, f.Outcome == ""
	if outcome == "open" {
		outcome = ""
	}
	return many[Mailed](ctx, s.db, "SELECT "+mailedColumns+` FROM mailed WHERE mailing_id = $1 AND number > $2 AND ($3 OR outcome = $4) AND ($5::boolean IS NULL OR permanent = $5) AND ($6 = '' OR domain = $6)
		ORDER BY number LIMIT $7`, mailing, f.After, any, outcome, f.Permanent, f.Domain, f.Limit)
}

// LockMailings has others wait who record what became of letters of some mailings, until the
// transaction ends. It comes before what these letters are is read.
func (s *Store) LockMailings(ctx context.Context, ids []int64) error {
	_, err := s.db.Exec(ctx, "SELECT FROM mailing WHERE id = ANY($1) ORDER BY id FOR NO KEY UPDATE", ids)
	return err
}

// Silent returns letters of a mailing of which nothing was heard, but for those of which it is
// not known whether they were sent.
func (s *Store) Silent(ctx context.Context, mailing int64, limit int) ([]Mailed, error) {
	return many[Mailed](ctx, s.db, "SELECT "+mailedColumns+` FROM mailed m WHERE mailing_id = $1 AND outcome = ''
			AND NOT EXISTS (SELECT FROM trial_letter t WHERE t.mailing_id = $1 AND t.number = m.number AND t.state <> 'sent')
		ORDER BY number LIMIT $2`, mailing, limit)
}

// OutcomeCount is how many letters came to an outcome, of those that had a verdict.
type OutcomeCount struct {
	Said      int32
	Outcome   bounce.Outcome
	Permanent bool
	Letters   int64
}

// OutcomeCounts returns how many letters of a workspace came to each outcome by what had
// been said of their addresses; of one mailing, or (0) of all.
func (s *Store) OutcomeCounts(ctx context.Context, workspace, mailing int64) ([]OutcomeCount, error) {
	return many[OutcomeCount](ctx, s.db, `SELECT said, outcome, permanent, count(*) AS letters FROM mailed
		WHERE workspace_id = $1 AND ($2::bigint = 0 OR mailing_id = $2) GROUP BY said, outcome, permanent ORDER BY said, outcome, permanent`, workspace, mailing)
}

// GroupOutcomes is what became of the letters of one domain, operator or list.
type GroupOutcomes struct {
	Name                                string // "": not known
	ListID                              *int64 // of a list
	Letters, Bounced, Passing, Complain int64
}

// OutcomeGroup is by what letters are grouped.
type OutcomeGroup string

// The groups.
const (
	ByDomain   OutcomeGroup = "domain"
	ByOperator OutcomeGroup = "operator" // by the run that the mailing went to
	ByList     OutcomeGroup = "list"
)

// groupedBy is where the names of a group come from.
var groupedBy = map[OutcomeGroup]struct{ name, list, from string }{
	ByDomain:   {"m.domain", "NULL::bigint", ""},
	ByOperator: {"coalesce(r.operator, '')", "NULL::bigint", "JOIN mailing g ON g.id = m.mailing_id LEFT JOIN run_domain r ON r.run_id = g.run_id AND r.domain = m.domain"},
	ByList:     {"coalesce(l.name, '')", "l.id", "JOIN mailing g ON g.id = m.mailing_id LEFT JOIN list l ON l.id = g.list_id"},
}

// OutcomesBy returns the groups of a workspace's letters with the most bounces; of one mailing,
// or (0) of all.
func (s *Store) OutcomesBy(ctx context.Context, by OutcomeGroup, workspace, mailing int64, limit int) ([]GroupOutcomes, error) {
	g := groupedBy[by]
	return many[GroupOutcomes](ctx, s.db, `SELECT `+g.name+` AS name, `+g.list+` AS list_id, count(*) AS letters, count(*) FILTER (WHERE outcome = 'bounced' AND permanent) AS bounced,
			count(*) FILTER (WHERE outcome = 'bounced' AND NOT permanent OR outcome = 'delayed') AS passing, count(*) FILTER (WHERE outcome = 'complained') AS complain
		FROM mailed m `+g.from+` WHERE m.workspace_id = $1 AND ($2::bigint = 0 OR m.mailing_id = $2) GROUP BY 1, 2
		HAVING count(*) FILTER (WHERE outcome IN ('bounced', 'delayed', 'complained')) > 0
		ORDER BY 4 DESC, 5 DESC, 3 DESC, 1 LIMIT $3`, workspace, mailing, limit)
}

// Unexpected returns letters that bounced for good though their address had been found
// deliverable or settled, the newest first.
func (s *Store) Unexpected(ctx context.Context, workspace, mailing int64, limit int) ([]Mailed, error) {
	return many[Mailed](ctx, s.db, "SELECT "+mailedColumns+` FROM mailed WHERE workspace_id = $1 AND ($2::bigint = 0 OR mailing_id = $2) AND outcome = 'bounced' AND permanent
			AND said IN (SELECT id FROM verdict WHERE finding = 'deliverable' OR cause = 'mailbox.settled')
		ORDER BY at DESC NULLS LAST, mailing_id, number LIMIT $3`, workspace, mailing, limit)
}

// Returned is a message that came back.
type Returned struct {
	ID         int64
	Way        string
	Digest     []byte
	Kind       string
	At         *time.Time
	ReceivedAt time.Time
	Sender     string
	Host       string
	Subject    string
	Words      string
	Credited   int
	Says       string
}

const returnedColumns = "id, way, digest, kind, at, received_at, sender, host, subject, words, credited, says"

// KnownReturned returns which digests are of messages that have come before.
func (s *Store) KnownReturned(ctx context.Context, workspace int64, digests [][]byte) (map[string]bool, error) {
	found, err := many[struct{ Digest []byte }](ctx, s.db, "SELECT digest FROM returned WHERE workspace_id = $1 AND digest = ANY($2)", workspace, digests)
	known := map[string]bool{}
	for _, f := range found {
		known[string(f.Digest)] = true
	}
	return known, err
}

// AddReturned records a message that came back and gives it its ID; ErrNotFound where it has
// come before.
func (s *Store) AddReturned(ctx context.Context, workspace int64, r *Returned) error {
	gone, err := s.Gone(ctx, workspace)
	if err != nil {
		return err
	}
	if gone != nil {
		for _, text := range []*string{&r.Sender, &r.Subject, &r.Words, &r.Says} {
			*text, _ = gone.Text(*text)
		}
	}
	added, err := one[Returned](ctx, s.db, `INSERT INTO returned (workspace_id, way, digest, kind, at, sender, host, subject, words, credited, says)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) ON CONFLICT DO NOTHING RETURNING `+returnedColumns,
		workspace, r.Way, r.Digest, r.Kind, r.At, r.Sender, r.Host, r.Subject, r.Words, r.Credited, r.Says)
	if err == nil {
		*r = added
	}
	return err
}

// ReturnedBefore returns the newest messages that came back before one (0: the newest of
// all), of a kind ("": any), credited or not.
func (s *Store) ReturnedBefore(ctx context.Context, workspace, before int64, kind string, credited *bool, limit int) ([]Returned, error) {
	return many[Returned](ctx, s.db, "SELECT "+returnedColumns+` FROM returned WHERE workspace_id = $1 AND ($2::bigint = 0 OR id < $2) AND ($3 = '' OR kind = $3)
		AND ($4::boolean IS NULL OR (credited > 0) = $4) ORDER BY id DESC LIMIT $5`, workspace, before, kind, credited, limit)
}

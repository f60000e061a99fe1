package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/outbound"
	"varnet/core/trial"
)

// TrialSender is by whom and how a workspace sends trial letters.
type TrialSender struct {
	WorkspaceID int64
	AllowedAt   *time.Time // nil: its owner has not turned them on
	AllowedBy   string
	Host        string // of its submission server; "": none is set
	Port        int
	Security    string
	Username    string
	Sealed      []byte            // its password
	Sender      string            // as people see it, with its name
	Returns     string            // the mailbox that bounces come to; "": to Varnet itself
	Servers     []string          // the addresses that the letters leave from
	Selector    string            // of the DKIM key; "": the letters are not signed
	Key         []byte            // the private key, sealed
	Record      string            // the public key, as its DNS record
	Daily       int               // how many letters within 24 hours
	Outcome     *outbound.Outcome // of its last test; nil: it was not tested as it is
	TestedAt    *time.Time
}

const trialSenderColumns = "workspace_id, allowed_at, allowed_by, host, port, security, username, sealed, sender, returns, servers, selector, key, record, daily, outcome, tested_at"

// TrialSender returns a workspace's; an empty one where none is set.
func (s *Store) TrialSender(ctx context.Context, workspace int64) (TrialSender, error) {
	found, err := many[TrialSender](ctx, s.db, "SELECT "+trialSenderColumns+" FROM trial_sender WHERE workspace_id = $1", workspace)
	if err != nil || len(found) == 0 {
		return TrialSender{WorkspaceID: workspace, Daily: trial.Daily}, err
	}
	return found[0], nil
}

// AllowTrials records that the owner of a workspace turned trial letters on or off.
func (s *Store) AllowTrials(ctx context.Context, workspace int64, at *time.Time, by string) error {
	_, err := s.db.Exec(ctx, `INSERT INTO trial_sender (workspace_id, allowed_at, allowed_by, daily) VALUES ($1, $2, $3, $4)
		ON CONFLICT (workspace_id) DO UPDATE SET allowed_at = $2, allowed_by = $3`, workspace, at, by, trial.Daily)
	return err
}

// SetTrialSender records a workspace's sender, which is not tested then.
func (s *Store) SetTrialSender(ctx context.Context, t TrialSender) error {
	_, err := s.db.Exec(ctx, `INSERT INTO trial_sender (workspace_id, host, port, security, username, sealed, sender, returns, servers, selector, key, record, daily) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
		ON CONFLICT (workspace_id) DO UPDATE SET host = $2, port = $3, security = $4, username = $5, sealed = $6, sender = $7, returns = $8, servers = $9, selector = $10, key = $11, record = $12, daily = $13,
			outcome = NULL, tested_at = NULL`,
		t.WorkspaceID, t.Host, t.Port, t.Security, t.Username, t.Sealed, t.Sender, t.Returns, append([]string{}, t.Servers...), t.Selector, t.Key, t.Record, t.Daily)
	return err
}

// SetTrialOutcome records what a test of a sender found.
func (s *Store) SetTrialOutcome(ctx context.Context, t TrialSender) error {
	return s.changed(ctx, "UPDATE trial_sender SET outcome = $2, tested_at = $3 WHERE workspace_id = $1", t.WorkspaceID, t.Outcome, t.TestedAt)
}

// Trial is what makes a mailing one of trial letters: their text, and by which right they are
// sent.
type Trial struct {
	Subject string `json:"subject"`
	Body    string `json:"body"`
	Who     string `json:"who"`
	Why     string `json:"why"`
	Reason  string `json:"reason"` // the lawful one
}

// Text is what its letters say.
func (t Trial) Text() trial.Text {
	return trial.Text{Subject: t.Subject, Body: t.Body, Who: t.Who, Why: t.Why}
}

// The states of a trial letter.
const (
	TrialWaiting = "waiting"
	TrialSending = "sending" // it was being handed over; whether it was taken is not known
	TrialSent    = "sent"
	TrialRefused = "refused"  // by the submission server
	TrialLeftOut = "left out" // its address gets none after all
)

// TrialLetter is a trial letter and where it stands.
type TrialLetter struct {
	MailingID int64
	Number    int
	Operator  string
	Canonical string
	Mailbox   string
}

// RunOperators returns the operators of a run's domains.
func (s *Store) RunOperators(ctx context.Context, run int64) (map[string]string, error) {
	return s.domainsOf(ctx, run, nil)
}

// AddTrialLetters has the letters of a mailing wait to be sent, by the operators of their
// domains.
func (s *Store) AddTrialLetters(ctx context.Context, mailing int64, operators map[string]string) error {
	domains := sortedKeys(operators)
	by := make([]string, len(domains))
	for i, d := range domains {
		by[i] = operators[d]
	}
	_, err := s.db.Exec(ctx, `INSERT INTO trial_letter (mailing_id, number, operator) SELECT mailing_id, number, coalesce(o.operator, '')
		FROM mailed LEFT JOIN unnest($2::text[], $3::text[]) AS o(domain, operator) USING (domain) WHERE mailing_id = $1`, mailing, domains, by)
	return err
}

// NextTrialLetters returns the first waiting letter of each operator of a mailing that may be
// tried now, and when the last one to that operator left, from any workspace.
func (s *Store) NextTrialLetters(ctx context.Context, mailing int64, now time.Time, limit int) ([]TrialLetter, map[string]time.Time, error) {
	type next struct {
		TrialLetter
		Last *time.Time
	}
	found, err := many[next](ctx, s.db, `SELECT DISTINCT ON (t.operator) t.mailing_id, t.number, t.operator, m.canonical, m.mailbox,
			(SELECT max(at) FROM trial_sent s WHERE s.operator = t.operator) AS last
		FROM trial_letter t JOIN mailed m USING (mailing_id, number)
		WHERE t.mailing_id = $1 AND t.state = 'waiting' AND (t.at IS NULL OR t.at <= $2) ORDER BY t.operator, t.number LIMIT $3`, mailing, now, limit)
	last, letters := map[string]time.Time{}, make([]TrialLetter, len(found))
	for i, f := range found {
		letters[i] = f.TrialLetter
		if f.Last != nil {
			last[f.Operator] = *f.Last
		}
	}
	return letters, last, err
}

// SentTrials returns which addresses had their trial letter, of some given by their canonical
// form.
func (s *Store) SentTrials(ctx context.Context, workspace int64, canonicals []string) (map[string]bool, error) {
	byPrint, prints := s.printsOf(canonicals)
	found, err := many[struct{ Fingerprint []byte }](ctx, s.db, "SELECT fingerprint FROM trial_sent WHERE workspace_id = $1 AND fingerprint = ANY($2)", workspace, prints)
	sent := map[string]bool{}
	for _, f := range found {
		sent[byPrint[string(f.Fingerprint)]] = true
	}
	return sent, err
}

// TrialsSent returns how many trial letters a workspace sent since a time.
func (s *Store) TrialsSent(ctx context.Context, workspace int64, since time.Time) (n int, err error) {
	err = s.db.QueryRow(ctx, "SELECT count(*) FROM trial_sent WHERE workspace_id = $1 AND at > $2", workspace, since).Scan(&n)
	return n, err
}

// ClaimTrialLetter notes that a letter is about to be handed over: from then on its address
// counts as having had it. ok is false where it had one before, and gets none, or where
// somebody else claimed it.
func (s *Store) ClaimTrialLetter(ctx context.Context, workspace int64, l TrialLetter, now time.Time) (ok bool, err error) {
	sent, err := s.SentTrials(ctx, workspace, []string{l.Canonical}) // by the secrets of before, too
	if err != nil {
		return false, err
	}
	f := s.fingerprints()(string(plain(l.Canonical)))[0]
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		tag, err := s.db.Exec(ctx, "UPDATE trial_letter SET state = 'sending', at = $3 WHERE mailing_id = $1 AND number = $2 AND state = 'waiting'", l.MailingID, l.Number, now)
		if err != nil || tag.RowsAffected() == 0 {
			return err
		}
		tag, err = s.db.Exec(ctx, "INSERT INTO trial_sent (workspace_id, fingerprint, secret, operator, at) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING",
			workspace, f.Sum, f.Secret, l.Operator, now)
		if ok = err == nil && tag.RowsAffected() == 1 && !sent[l.Canonical]; ok || err != nil {
			return err
		}
		return s.SetTrialLetter(ctx, l, TrialLeftOut, now, "")
	})
	return ok, err
}

// SetTrialLetter records where a letter got.
func (s *Store) SetTrialLetter(ctx context.Context, l TrialLetter, state string, at time.Time, says string) error {
	return s.changed(ctx, "UPDATE trial_letter SET state = $3, at = $4, says = $5 WHERE mailing_id = $1 AND number = $2", l.MailingID, l.Number, state, at, says)
}

// ReleaseTrialLetter records where a letter got that was claimed and not taken: its address has not had it.
func (s *Store) ReleaseTrialLetter(ctx context.Context, workspace int64, l TrialLetter, state string, at time.Time, says string) error {
	_, prints := s.printsOf([]string{l.Canonical})
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if _, err := s.db.Exec(ctx, "DELETE FROM trial_sent WHERE workspace_id = $1 AND fingerprint = ANY($2)", workspace, prints); err != nil {
			return err
		}
		return s.SetTrialLetter(ctx, l, state, at, says)
	})
}

// Usable reports whether letters may be sent: they are turned on, and the last test of the
// sender found no fault.
func (t TrialSender) Usable() bool {
	return t.AllowedAt != nil && t.Host != "" && t.Outcome != nil && t.Outcome.Grade() != outbound.Bad
}

// TrialStates returns how many letters of a mailing are in each state, and the words of the
// last refusal.
func (s *Store) TrialStates(ctx context.Context, mailing int64) (states map[string]int64, refusal string, err error) {
	found, err := many[struct {
		State string
		N     int64
		Says  string
	}](ctx, s.db, "SELECT state, count(*) AS n, coalesce((array_agg(says ORDER BY at DESC))[1], '') AS says FROM trial_letter WHERE mailing_id = $1 GROUP BY state", mailing)
	states = map[string]int64{}
	for _, f := range found {
		states[f.State] = f.N
		if f.State == TrialRefused {
			refusal = f.Says
		}
	}
	return states, refusal, err
}

// TrialsUnsubscribed returns how many people unsubscribed by the letters of a mailing.
func (s *Store) TrialsUnsubscribed(ctx context.Context, mailing int64) (n int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT count(*) FROM trial_letter WHERE mailing_id = $1 AND unsubscribed_at IS NOT NULL", mailing).Scan(&n)
	return n, err
}

// StopTrialLetters has those letters of a mailing that wait not be sent.
func (s *Store) StopTrialLetters(ctx context.Context, mailing int64, now time.Time) error {
	_, err := s.db.Exec(ctx, "UPDATE trial_letter SET state = 'left out', at = $2 WHERE mailing_id = $1 AND state = 'waiting'", mailing, now)
	return err
}

// ForgetUnsent takes the letters that were never sent out of a mailing.
func (s *Store) ForgetUnsent(ctx context.Context, mailing int64) error {
	_, err := s.db.Exec(ctx, "DELETE FROM mailed m USING trial_letter t WHERE m.mailing_id = $1 AND t.mailing_id = $1 AND t.number = m.number AND t.state IN ('waiting', 'refused', 'left out')", mailing)
	return err
}

// UnsubscribeTrial records that whom a letter went to unsubscribed.
func (s *Store) UnsubscribeTrial(ctx context.Context, mailing int64, number int, at time.Time) error {
	return s.changed(ctx, "UPDATE trial_letter SET unsubscribed_at = coalesce(unsubscribed_at, $3) WHERE mailing_id = $1 AND number = $2", mailing, number, at)
}

// SendingTrials returns the mailings whose trial letters are being sent.
func (s *Store) SendingTrials(ctx context.Context, limit int) ([]Mailing, error) {
	return many[Mailing](ctx, s.db, "SELECT "+mailingColumns+" FROM mailing WHERE state = $1 ORDER BY id LIMIT $2", MailingSending, limit)
}

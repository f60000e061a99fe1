package store

import (
	"context"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/naming"
	"varnet/core/odds"
)

// LockRun has others wait who restate results of a run or decide on them anew, until the transaction
// ends.
func (s *Store) LockRun(ctx context.Context, run int64) error {
	_, err := s.db.Exec(ctx, "SELECT FROM run WHERE id = $1 FOR NO KEY UPDATE", run)
	return err
}

// Restate gives results of a run other odds: evidence and time stay those of the results before. A result
// that has changed since it was looked at stays as it is. It belongs in a transaction. Whoever looks at
// the run is told.
func (s *Store) Restate(ctx context.Context, run int64, results []Concluded) error {
	if len(results) == 0 {
		return nil
	}
	if err := s.LockRun(ctx, run); err != nil {
		return err
	}
	latest, err := s.Latest(ctx, run)
	if err != nil {
		return err
	}
	addresses := make([]int32, len(results))
	for i, r := range results {
		addresses[i] = r.Address
	}
	now, err := latest.Of(ctx, addresses)
	if err != nil {
		return err
	}
	results = slices.DeleteFunc(slices.Clone(results), func(r Concluded) bool { return now[r.Address].Verdict != r.Was })
	if len(results) == 0 {
		return nil
	}
	b, tally, err := s.batchOf(ctx, results)
	if err != nil {
		return err
	}
	b.restated, b.evidence = true, nil
	if err := s.addBatch(ctx, run, b, tally, time.Unix(0, 0)); err != nil {
		return err
	}
	return s.TellProgress(ctx, []int64{run})
}

// Observation is what became of the last letter to a catch-all address, and how the address is
// made.
type Observation struct {
	Canonical        string // to be kept as a fingerprint; "" where it is read
	RunID            int64  // by which it was mailed
	Domain, Operator string
	odds.Facts
	Prior, Said float64 // the odds of the shipped table, and those that were stated when it was mailed
	Version     int     // the model by which they were
	Arrived     bool
	SentAt      time.Time
}

// ToLearn returns the mailings of a workspace that are over and were not learnt from.
func (s *Store) ToLearn(ctx context.Context, workspace int64) ([]Mailing, error) {
	return many[Mailing](ctx, s.db, "SELECT "+mailingColumns+" FROM mailing WHERE workspace_id = $1 AND state = $2 AND learnt_at IS NULL AND run_id IS NOT NULL ORDER BY id", workspace, MailingClosed)
}

// LearnersDue returns the workspaces that have such mailings.
func (s *Store) LearnersDue(ctx context.Context) ([]int64, error) {
	return column[int64](ctx, s.db, "SELECT DISTINCT workspace_id FROM mailing WHERE state = $1 AND learnt_at IS NULL AND run_id IS NOT NULL", MailingClosed)
}

// LettersSaid returns the letters of a mailing after a number to addresses with certain verdicts.
func (s *Store) LettersSaid(ctx context.Context, mailing int64, verdicts []int32, after, limit int) ([]Mailed, error) {
	return many[Mailed](ctx, s.db, "SELECT "+mailedColumns+" FROM mailed WHERE mailing_id = $1 AND number > $2 AND said = ANY($3) ORDER BY number LIMIT $4", mailing, after, verdicts, limit)
}

// Observe keeps what became of letters, each in place of what was kept of its address.
func (s *Store) Observe(ctx context.Context, workspace int64, observed []Observation) error {
	printsOf := s.fingerprints()
	b := &pgx.Batch{}
	for _, o := range observed {
		f := printsOf(string(plain(o.Canonical)))[0]
		var pattern *string
		if o.Named {
			p := string(o.Pattern)
			pattern = &p
		}
		b.Queue(`INSERT INTO observation (workspace_id, fingerprint, secret, run_id, domain, operator, pattern, shape, role, random, prior, said, version, arrived, sent_at)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)
			ON CONFLICT (workspace_id, fingerprint) DO UPDATE SET run_id = EXCLUDED.run_id, operator = EXCLUDED.operator, pattern = EXCLUDED.pattern, prior = EXCLUDED.prior,
				said = EXCLUDED.said, version = EXCLUDED.version, arrived = EXCLUDED.arrived, sent_at = EXCLUDED.sent_at WHERE observation.sent_at <= EXCLUDED.sent_at`,
			workspace, f.Sum, f.Secret, o.RunID, o.Domain, o.Operator, pattern, string(o.Shape), o.Role, o.Random, o.Prior, o.Said, o.Version, o.Arrived, o.SentAt)
	}
	return s.db.SendBatch(ctx, b).Close()
}

// Correct keeps of addresses, by their canonical form, that their mailboxes are not there after
// all: what bounces after the watch.
func (s *Store) Correct(ctx context.Context, workspace int64, canonicals []string) error {
	_, prints := s.printsOf(canonicals)
	_, err := s.db.Exec(ctx, "UPDATE observation SET arrived = false WHERE workspace_id = $1 AND fingerprint = ANY($2)", workspace, prints)
	return err
}

// SetLearnt records that mailings were learnt from.
func (s *Store) SetLearnt(ctx context.Context, mailings []int64, at time.Time) error {
	_, err := s.db.Exec(ctx, "UPDATE mailing SET learnt_at = $2 WHERE id = ANY($1)", mailings, at)
	return err
}

// Observations calls do for the newest observations of a workspace, at most so many.
func (s *Store) Observations(ctx context.Context, workspace int64, most int, do func(Observation)) error {
	rows, err := s.db.Query(ctx, `SELECT run_id, domain, operator, pattern, shape, role, random, prior, said, version, arrived, sent_at FROM observation
		WHERE workspace_id = $1 ORDER BY sent_at DESC, fingerprint LIMIT $2`, workspace, most)
	if err != nil {
		return err
	}
	var o Observation
	var pattern *string
	var prior, said float32
	_, err = pgx.ForEachRow(rows, []any{&o.RunID, &o.Domain, &o.Operator, &pattern, &o.Shape, &o.Role, &o.Random, &prior, &said, &o.Version, &o.Arrived, &o.SentAt}, func() error {
		o.Prior, o.Said = round2(prior), round2(said)
		o.Pattern, o.Named = patternOf(pattern)
		do(o)
		return nil
	})
	return err
}

// patternOf is how an address is made of its name; named is false where it has none.
func patternOf(kept *string) (p naming.Pattern, named bool) {
	if kept == nil {
		return "", false
	}
	return naming.Pattern(*kept), true
}

// KnownMailboxes returns how the mailboxes are made that a message arrived at, by the domain; of
// some domains, or (nil) of all.
func (s *Store) KnownMailboxes(ctx context.Context, workspace int64, domains []string) (map[string]*odds.Neighbours, error) {
	type record struct {
		Domain    string
		Pattern   *string
		Shape     string
		Addresses int
	}
	found, err := many[record](ctx, s.db, `SELECT domain, pattern, shape, count(*)::int AS addresses FROM observation
		WHERE workspace_id = $1 AND arrived AND NOT role AND ($2::text[] IS NULL OR domain = ANY($2)) GROUP BY 1, 2, 3`, workspace, domains)
	out := map[string]*odds.Neighbours{}
	for _, r := range found {
		if out[r.Domain] == nil {
			out[r.Domain] = &odds.Neighbours{}
		}
		f := odds.Facts{Shape: naming.Shape(r.Shape)}
		f.Pattern, f.Named = patternOf(r.Pattern)
		out[r.Domain].Add(f, r.Addresses)
	}
	return out, err
}

// SetHabits keeps how the addresses of domains are made in the list of a run.
func (s *Store) SetHabits(ctx context.Context, run Run, habits map[string]*odds.Neighbours) error {
	b := &pgx.Batch{}
	for _, domain := range sortedKeys(habits) {
		b.Queue(`INSERT INTO run_habit (workspace_id, run_id, domain, neighbours) VALUES ($1, $2, $3, $4)
			ON CONFLICT (workspace_id, run_id, domain) DO UPDATE SET neighbours = EXCLUDED.neighbours`, run.WorkspaceID, run.ID, domain, *habits[domain])
	}
	return s.db.SendBatch(ctx, b).Close()
}

// Habit is how the addresses of a domain are made in the list of a run.
type Habit struct {
	RunID      int64
	Domain     string
	Neighbours odds.Neighbours
}

// Habits returns how addresses are made in the lists of a workspace's runs: of one run or (0) all,
// of one domain or ("") all.
func (s *Store) Habits(ctx context.Context, workspace, run int64, domain string) ([]Habit, error) {
	return many[Habit](ctx, s.db, `SELECT run_id, domain, neighbours FROM run_habit WHERE workspace_id = $1 AND ($2::bigint = 0 OR run_id = $2) AND ($3 = '' OR domain = $3)`, workspace, run, domain)
}

// ForgetHabits forgets those of runs that are gone and that nothing was learnt by.
func (s *Store) ForgetHabits(ctx context.Context) error {
	_, err := s.db.Exec(ctx, `DELETE FROM run_habit h WHERE NOT EXISTS (SELECT FROM run WHERE id = h.run_id)
		AND NOT EXISTS (SELECT FROM observation o WHERE o.workspace_id = h.workspace_id AND o.domain = h.domain AND o.run_id = h.run_id)`)
	return err
}

// SharedCounts returns what the workspaces that share it have learnt of domains; none for a
// workspace that does not share.
func (s *Store) SharedCounts(ctx context.Context, workspace int64) ([]odds.Count, error) {
	type record struct {
		WorkspaceID        int64
		Domain, Operator   string
		Addresses, Arrived int
	}
	found, err := many[record](ctx, s.db, `SELECT o.workspace_id, o.domain, max(o.operator) AS operator, count(*)::int AS addresses, (count(*) FILTER (WHERE arrived))::int AS arrived
		FROM observation o JOIN workspace w ON w.id = o.workspace_id AND w.share_outcomes
		WHERE (SELECT share_outcomes FROM workspace WHERE id = $1) GROUP BY 1, 2`, workspace)
	out := make([]odds.Count, len(found))
	for i, r := range found {
		out[i] = odds.Count{Workspace: r.WorkspaceID, Domain: r.Domain, Operator: r.Operator, Addresses: r.Addresses, Arrived: r.Arrived}
	}
	return out, err
}

// SharesOutcomes reports whether a workspace gives and takes counts of outcomes.
func (s *Store) SharesOutcomes(ctx context.Context, workspace int64) (shares bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT share_outcomes FROM workspace WHERE id = $1", workspace).Scan(&shares)
	return shares, err
}

// ShareOutcomes sets it.
func (s *Store) ShareOutcomes(ctx context.Context, workspace int64, share bool) error {
	return s.changed(ctx, "UPDATE workspace SET share_outcomes = $2 WHERE id = $1", workspace, share)
}

// OddsModel is what a workspace learnt once.
type OddsModel struct {
	Version  int // from 1
	MadeAt   time.Time
	Messages int64 // that it was learnt from
	Model    *odds.Model
	Changes  []string // sentences
}

// OddsModel returns what was learnt last; version 0 and a nil model where nothing was.
func (s *Store) OddsModel(ctx context.Context, workspace int64) (OddsModel, error) {
	found, err := many[OddsModel](ctx, s.db, "SELECT version, made_at, messages, model, changes FROM odds_model WHERE workspace_id = $1 ORDER BY version DESC LIMIT 1", workspace)
	if err != nil || len(found) == 0 {
		return OddsModel{}, err
	}
	return found[0], nil
}

// OddsModels returns what was learnt the last times, the latest first, without the models.
func (s *Store) OddsModels(ctx context.Context, workspace int64, limit int) ([]OddsModel, error) {
	return many[OddsModel](ctx, s.db, "SELECT version, made_at, messages, NULL::json AS model, changes FROM odds_model WHERE workspace_id = $1 ORDER BY version DESC LIMIT $2", workspace, limit)
}

// OddsVersion is the version that was in use at a time; the zero time: the one in use.
func (s *Store) OddsVersion(ctx context.Context, workspace int64, at time.Time) (version int, err error) {
	err = s.db.QueryRow(ctx, "SELECT coalesce(max(version), 0) FROM odds_model WHERE workspace_id = $1 AND ($2::timestamptz IS NULL OR made_at <= $2)", workspace, orNull(!at.IsZero(), at)).Scan(&version)
	return version, err
}

// SaveOddsModel keeps what was learnt; of earlier versions the models are forgotten.
func (s *Store) SaveOddsModel(ctx context.Context, workspace int64, m OddsModel) error {
	if _, err := s.db.Exec(ctx, "UPDATE odds_model SET model = NULL WHERE workspace_id = $1", workspace); err != nil {
		return err
	}
	_, err := s.db.Exec(ctx, "INSERT INTO odds_model (workspace_id, version, made_at, messages, model, changes) VALUES ($1, $2, now(), $3, $4, $5)", workspace, m.Version, m.Messages, *m.Model, m.Changes)
	return err
}

// LatestRuns returns the last finished run to the mailbox of each list of a workspace that is not
// archived and has no newer import.
func (s *Store) LatestRuns(ctx context.Context, workspace int64) ([]int64, error) {
	return column[int64](ctx, s.db, `SELECT max(u.id) FROM run u JOIN list l ON l.id = u.list_id
		WHERE u.workspace_id = $1 AND u.sample IS NULL AND u.depth = 'mailbox' AND u.finished_at IS NOT NULL AND l.archived_at IS NULL
			AND NOT EXISTS (SELECT FROM list newer WHERE newer.earlier_id = l.id)
		GROUP BY u.list_id ORDER BY 1`, workspace)
}

package store

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/policy"
	"varnet/core/probe"
	"varnet/core/resolve"
	"varnet/core/rule"
)

// Depth is how far a run goes.
type Depth string

// The depths.
const (
	DepthSyntax  Depth = "syntax"
	DepthDomain  Depth = "domain"
	DepthMailbox Depth = "mailbox"
)

// The states of a run that are stored; waiting is seen from the parcels.
const (
	Drafted  = "drafted"
	Running  = "running"
	Paused   = "paused"
	Waiting  = "waiting"
	Finished = "finished"
	Stopped  = "stopped"
)

// Run is one verification of one list.
type Run struct {
	ID          int64
	WorkspaceID int64
	ListID      int64
	Depth       Depth
	Policy      policy.Policy
	State       string
	// ReuseDays is for how many days results of earlier runs are taken over.
	ReuseDays int
	// Ages are for how many days, by the finding; none: ReuseDays, longer or shorter by the
	// cause. What is undecided is never taken over.
	Ages map[finding.Finding]int
	// Sample are the addresses of a run that asks about no others, nil for all.
	Sample []int32
	// Urgent: it goes before others, on our side.
	Urgent bool
	Plan   Plan
	Times
	CreatedAt  time.Time
	FinishedAt *time.Time
}

// FirstTurn is the turn of its first parcels at an operator.
func (r Run) FirstTurn() int32 {
	if r.Urgent {
		return pace.UrgentTurn
	}
	return 0
}

// Times are when a run may work.
type Times struct {
	// BeginAt is when it is to begin, and once it did, when that was.
	BeginAt      time.Time
	Hours, Zone  string
	LimitMinutes int
	// ResumeAt is when a run that is paused by its hours goes on; nil: it is
	// not paused, or somebody paused it.
	ResumeAt *time.Time
}

// Rule is what the times come to.
func (t Times) Rule() rule.Times {
	return rule.Times{Begin: t.BeginAt, Hours: rule.Hours{Hours: t.Hours, Zone: t.Zone}, Limit: time.Duration(t.LimitMinutes) * time.Minute}
}

// Plan is how far the planning of a run came.
type Plan struct {
	Malformed  int32  `json:"malformed"` // ordinal of the last malformed row concluded
	SyntaxDone bool   `json:"syntaxDone"`
	Batch      int32  `json:"batch"`     // batches of domains planned
	Addresses  int32  `json:"addresses"` // the last domain planned: its size
	Domain     string `json:"domain"`    // and its name
	// Ordinal is the last address planned of the domain after the last one
	// planned, where that is planned in parts.
	Ordinal int32 `json:"ordinal,omitempty"`
	Done    bool  `json:"done"`
	// ReuseDone tells that results of earlier runs were taken over, Reused how
	// many.
	ReuseDone bool  `json:"reuseDone,omitempty"`
	Reused    int64 `json:"reused,omitempty"`
	// BouncedDone reports that addresses were concluded to which a message bounced for
	// good, Bounced how many.
	BouncedDone bool  `json:"bouncedDone,omitempty"`
	Bounced     int64 `json:"bounced,omitempty"`
	// Known domains are those of which it was known from before, and still is
	// when the run is finished, how their hosts take mail.
	Known int64 `json:"known,omitempty"`
	// Doubted tells that what domains had said before they were found to answer by
	// chance was asked again.
	Doubted bool `json:"doubted,omitempty"`
	// Remembered is the last batch whose absent mailboxes are remembered.
	Remembered int64 `json:"remembered,omitempty"`
}

const runColumns = "id, workspace_id, list_id, depth, policy, state, reuse_days, ages, sample, urgent, plan, begin_at, hours, zone, limit_minutes, resume_at, created_at, finished_at"

// CreateRun records a run and gives it its ID. The list is held meanwhile: one that is
// being deleted is waited for, and then it is ErrNotFound.
func (s *Store) CreateRun(ctx context.Context, r *Run) error {
	err := s.db.QueryRow(ctx, `
		INSERT INTO run (workspace_id, list_id, depth, policy, state, reuse_days, sample, begin_at, hours, zone, limit_minutes, ages, urgent)
		SELECT $1, l.id, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13 FROM (SELECT id FROM list WHERE id = $2 AND workspace_id = $1 FOR KEY SHARE) l
		RETURNING id, created_at`,
		r.WorkspaceID, r.ListID, string(r.Depth), r.Policy, r.State, r.ReuseDays, r.Sample, r.BeginAt, r.Hours, r.Zone, r.LimitMinutes, r.Ages, r.Urgent).Scan(&r.ID, &r.CreatedAt)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return err
}

// BeginRun lets a drafted run begin now; ok is false when it is none.
func (s *Store) BeginRun(ctx context.Context, id int64) (ok bool, err error) {
	tag, err := s.db.Exec(ctx, "UPDATE run SET state = 'running', begin_at = now() WHERE id = $1 AND state = 'drafted'", id)
	return tag.RowsAffected() == 1, err
}

// Run returns one run of the workspace.
func (s *Store) Run(ctx context.Context, workspace, id int64) (Run, error) {
	r, err := one[Run](ctx, s.db, "SELECT "+runColumns+" FROM run WHERE workspace_id = $1 AND id = $2", workspace, id)
	r.wholePolicy()
	return r, err
}

// wholePolicy fills in the ready-made policy of a run from before policies were
// kept whole.
func (r *Run) wholePolicy() {
	if p, err := policy.Named(r.Policy.Name); err == nil && len(r.Policy.Rules) == 0 {
		r.Policy = p
	}
}

// RunByID returns a run to the jobs that work on it.
func (s *Store) RunByID(ctx context.Context, id int64) (Run, error) {
	return one[Run](ctx, s.db, "SELECT "+runColumns+" FROM run WHERE id = $1", id)
}

// Runs returns a page of runs, newest first, of one list or (0) of all; runs of a
// sample are left out.
func (s *Store) Runs(ctx context.Context, workspace, list, before int64, limit int) ([]Run, error) {
	runs, err := many[Run](ctx, s.db, `SELECT `+runColumns+` FROM run
		WHERE workspace_id = $1 AND sample IS NULL AND ($2::bigint = 0 OR list_id = $2) AND ($3::bigint = 0 OR id < $3) ORDER BY id DESC LIMIT $4`,
		workspace, list, before, limit)
	for i := range runs {
		runs[i].wholePolicy()
	}
	return runs, err
}

// LastRuns returns the newest run of each of some lists that has one, by the list.
func (s *Store) LastRuns(ctx context.Context, workspace int64, lists []int64) (map[int64]Run, error) {
	runs, err := many[Run](ctx, s.db, `SELECT `+runColumns+` FROM run WHERE id = ANY(ARRAY(
		SELECT (SELECT max(id) FROM run WHERE list_id = list.id AND sample IS NULL) FROM unnest($2::bigint[]) AS list (id)))
		AND workspace_id = $1`, workspace, lists)
	found := make(map[int64]Run, len(runs))
	for _, r := range runs {
		r.wholePolicy()
		found[r.ListID] = r
	}
	return found, err
}

// StopRun stops a run that is not finished; what is known stays. One that was
// only asking again is finished as it was before.
func (s *Store) StopRun(ctx context.Context, workspace, id int64) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if _, err := s.Run(ctx, workspace, id); err != nil {
			return err
		}
		_, err := s.db.Exec(ctx, `UPDATE run SET finished_at = now(), resume_at = NULL, state = CASE WHEN (plan->>'done')::boolean AND NOT EXISTS
			(SELECT FROM parcel WHERE run_id = $1 AND state IN ('open', 'paused', 'claimed') AND NOT again) THEN 'finished' ELSE 'stopped' END
			WHERE id = $1 AND state IN ('drafted', 'running', 'paused')`, id)
		if err == nil {
			_, err = s.db.Exec(ctx, "UPDATE parcel SET state = 'void' WHERE run_id = $1 AND state IN ('open', 'paused')", id)
		}
		return err
	})
}

// PauseRun lets a running run wait, until its hours begin or (nil) somebody lets
// it go on; conversations in flight come to their end. Parcels that they or the
// planning add meanwhile stay open, and are not claimed before the run goes on.
func (s *Store) PauseRun(ctx context.Context, workspace, id int64, until *time.Time) error {
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if _, err := s.Run(ctx, workspace, id); err != nil {
			return err
		}
		_, err := s.db.Exec(ctx, "UPDATE run SET state = 'paused', resume_at = $2 WHERE id = $1 AND (state = 'running' OR state = 'paused' AND $2::timestamptz IS NULL)", id, until)
		if err == nil {
			_, err = s.db.Exec(ctx, "UPDATE parcel SET state = 'paused' WHERE run_id = $1 AND state = 'open'", id)
		}
		return err
	})
}

// ResumeRun lets a paused run go on, and returns its parcels, of which only lane
// key and time are filled in. It belongs in the transaction that sets their
// lanes going. A run that is not paused has none.
func (s *Store) ResumeRun(ctx context.Context, workspace, id int64) (Run, []Parcel, error) {
	r, err := s.Run(ctx, workspace, id)
	if err != nil {
		return r, nil, err
	}
	tag, err := s.db.Exec(ctx, "UPDATE run SET state = 'running', resume_at = NULL WHERE id = $1 AND state = 'paused'", id)
	if err != nil || tag.RowsAffected() == 0 {
		return r, nil, err
	}
	r.State = Running
	rows, err := s.db.Query(ctx, "UPDATE parcel SET state = 'open' WHERE run_id = $1 AND state IN ('paused', 'open') RETURNING lane_key, not_before", id)
	if err != nil {
		return r, nil, err
	}
	parcels, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (p Parcel, err error) {
		return p, row.Scan(&p.LaneKey, &p.NotBefore)
	})
	return r, parcels, err
}

// SavePlan records how far the planning came. A run that was deleted meanwhile
// is ErrNotFound, and nothing of its planning may be recorded.
func (s *Store) SavePlan(ctx context.Context, run int64, p Plan) error {
	tag, err := s.db.Exec(ctx, "UPDATE run SET plan = $2 WHERE id = $1", run, p)
	if err == nil && tag.RowsAffected() == 0 {
		err = ErrNotFound
	}
	return err
}

// RunsGoing returns how many runs of a workspace are at work.
func (s *Store) RunsGoing(ctx context.Context, workspace int64) (n int, err error) {
	err = s.db.QueryRow(ctx, "SELECT count(*) FROM run WHERE workspace_id = $1 AND state = 'running'", workspace).Scan(&n)
	return n, err
}

// left tells in SQL that a run has parcels left. It looks for one of each run: a join, planned by statistics of before
// many runs began at once, goes through all parcels for each.
const left = "(SELECT true FROM parcel WHERE run_id = run.id AND state IN ('open', 'paused', 'claimed') LIMIT 1) IS NOT NULL"

// planned tells in SQL that a run is running and wholly planned.
const planned = "state = 'running' AND (plan->>'done')::boolean"

// Done returns the run, or all runs (0), of which all is planned and no parcel is left.
// It is asked after the transaction that recorded a parcel, so that whoever records the
// last one sees all others.
func (s *Store) Done(ctx context.Context, run int64) ([]int64, error) {
	which, args := "", []any{}
	if run != 0 {
		which, args = "id = $1 AND ", append(args, run)
	}
	return column[int64](ctx, s.db, "SELECT id FROM run WHERE "+which+planned+" AND NOT "+left, args...)
}

// Finish finishes a run that is done, and reports whether it did. It locks the run before it
// looks again: it may have been opened meanwhile.
func (s *Store) Finish(ctx context.Context, run int64) (finished bool, err error) {
	err = s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if _, err := s.db.Exec(ctx, "SELECT FROM run WHERE id = $1 FOR UPDATE", run); err != nil {
			return err
		}
		tag, err := s.db.Exec(ctx, `UPDATE run SET state = 'finished', finished_at = now(), plan = jsonb_set(plan, '{known}', to_jsonb((
				SELECT count(*) FROM run_domain d WHERE d.run_id = run.id
				AND EXISTS (SELECT FROM acceptance a WHERE a.domain = d.domain AND a.since < run.begin_at))))
			WHERE id = $1 AND `+planned+" AND NOT "+left, run)
		if finished = err == nil && tag.RowsAffected() == 1; !finished {
			return err
		}
		return s.foldTally(ctx, run)
	})
	return finished, err
}

// Progress is where a run stands.
type Progress struct {
	Verdicts map[int32]int64 // addresses by verdict
	// Postponed addresses wait for a later round; NextRound is when the
	// first of them may be asked.
	Postponed int64
	NextRound *time.Time
	// Ready addresses are in parcels that may be asked now.
	Ready int64
	// Again of those are asked again and have a result meanwhile.
	Again int64
	// LastMinute is how many addresses were concluded in the last minute.
	LastMinute int64
}

// Progress returns where runs stand, each by its number: the sum of its tallies.
func (s *Store) Progress(ctx context.Context, runs ...int64) (map[int64]Progress, error) {
	found := make(map[int64]Progress, len(runs))
	for _, run := range runs {
		found[run] = Progress{Verdicts: map[int32]int64{}}
	}
	rows, err := s.db.Query(ctx, `SELECT run_id, verdict, sum(addresses), coalesce(sum(addresses) FILTER (WHERE addresses > 0 AND at > now() - interval '1 minute'), 0)
		FROM tally WHERE run_id = ANY($1) GROUP BY 1, 2`, runs)
	if err != nil {
		return nil, err
	}
	var run, n, lately int64
	var verdict int32
	_, err = pgx.ForEachRow(rows, []any{&run, &verdict, &n, &lately}, func() error {
		p := found[run]
		p.Verdicts[verdict] = n
		p.LastMinute += lately
		found[run] = p
		return nil
	})
	if err != nil {
		return nil, err
	}
	rows, err = s.db.Query(ctx, `
		SELECT run_id, coalesce(sum(addresses) FILTER (WHERE not_before > now()), 0), min(not_before) FILTER (WHERE not_before > now()),
		       coalesce(sum(addresses) FILTER (WHERE not_before <= now()), 0), coalesce(sum(addresses) FILTER (WHERE again), 0)
		FROM parcel WHERE run_id = ANY($1) AND state IN ('open', 'paused', 'claimed') GROUP BY 1`, runs)
	if err != nil {
		return nil, err
	}
	var p Progress
	_, err = pgx.ForEachRow(rows, []any{&run, &p.Postponed, &p.NextRound, &p.Ready, &p.Again}, func() error {
		p.Verdicts, p.LastMinute = found[run].Verdicts, found[run].LastMinute
		found[run], p = p, Progress{}
		return nil
	})
	return found, err
}

// MalformedRow is an address's text that is not an address.
type MalformedRow struct {
	Ordinal int32
	Problem Problem
}

// Malformed returns the texts of a list that are not an address, after an ordinal.
func (s *Store) Malformed(ctx context.Context, list int64, after int32, limit int) (found []MalformedRow, err error) {
	err = s.eachBlock(ctx, list, false, func(in []Row) error {
		for _, c := range in {
			if c.Problem != nil && c.Ordinal > after {
				found = append(found, MalformedRow{c.Ordinal, *c.Problem})
			}
			if len(found) == limit {
				return ErrEnough
			}
		}
		return nil
	}, "malformed > 0 AND last > $2", after)
	if errors.Is(err, ErrEnough) {
		err = nil
	}
	return found, err
}

// NextDomains returns domains of a list after the last one planned, the largest
// first.
func (s *Store) NextDomains(ctx context.Context, list int64, p Plan, limit int) (domains []DomainSize, err error) {
	return many[DomainSize](ctx, s.db, `SELECT domain, addresses FROM list_domain
		WHERE list_id = $1 AND ($2 = '' OR (addresses, domain) < ($3, $2)) ORDER BY addresses DESC, domain DESC LIMIT $4`,
		list, p.Domain, p.Addresses, limit)
}

// FrequentDomains returns the domains of a list with at least so many addresses,
// at most 200 of them.
func (s *Store) FrequentDomains(ctx context.Context, list int64, addresses int) ([]string, error) {
	return column[string](ctx, s.db, "SELECT domain FROM list_domain WHERE list_id = $1 AND addresses >= $2 ORDER BY addresses DESC LIMIT 200", list, addresses)
}

// FrequentDomainsOf returns the domains with at least so many addresses in one of a workspace's
// newest lists, at most 200 of them.
func (s *Store) FrequentDomainsOf(ctx context.Context, workspace int64, addresses int) ([]string, error) {
	return column[string](ctx, s.db, `SELECT domain FROM list_domain WHERE list_id IN (SELECT id FROM list WHERE workspace_id = $1 ORDER BY id DESC LIMIT 20) AND addresses >= $2
		GROUP BY 1 ORDER BY max(addresses) DESC LIMIT 200`, workspace, addresses)
}

// DomainSize is a domain of a list and how many addresses it has there.
type DomainSize struct {
	Domain    string
	Addresses int32
}

// RunDomain is what DNS said of a domain when the run was planned.
type RunDomain struct {
	Domain   string
	Operator string
	Facts    resolve.Domain
	// Acceptances are what is known of its exchangers, the one asked last first.
	Acceptances []probe.Acceptance
}

// AddRunDomains records what DNS said.
func (s *Store) AddRunDomains(ctx context.Context, run int64, domains []RunDomain) error {
	_, err := s.db.CopyFrom(ctx, pgx.Identifier{"run_domain"}, []string{"run_id", "domain", "operator", "facts"},
		pgx.CopyFromSlice(len(domains), func(i int) ([]any, error) {
			d := domains[i]
			return []any{run, d.Domain, d.Operator, d.Facts}, nil
		}))
	return err
}

// ReplaceRunDomains records what DNS said when it was asked again.
func (s *Store) ReplaceRunDomains(ctx context.Context, run int64, domains []RunDomain) error {
	names := make([]string, len(domains))
	for i, d := range domains {
		names[i] = d.Domain
	}
	if _, err := s.db.Exec(ctx, "DELETE FROM run_domain WHERE run_id = $1 AND domain = ANY($2)", run, names); err != nil {
		return err
	}
	return s.AddRunDomains(ctx, run, domains)
}

// RunDomains returns what DNS said of some domains, and what is known of their
// exchangers.
func (s *Store) RunDomains(ctx context.Context, run int64, domains []string) ([]RunDomain, error) {
	return many[RunDomain](ctx, s.db, `SELECT d.domain, d.operator, d.facts, (
			SELECT jsonb_agg(a.facts ORDER BY a.at DESC) FROM acceptance a WHERE a.domain = d.domain) AS acceptances
		FROM run_domain d WHERE d.run_id = $1 AND d.domain = ANY($2)`, run, domains)
}

// acceptancesOf asks for what is known of the exchangers of a domain.
func acceptancesOf(known *[]probe.Acceptance, domain string) question {
	return question{"SELECT facts FROM acceptance WHERE domain = $1 ORDER BY at DESC", []any{domain}, func(rows pgx.Rows) (err error) {
		*known, err = pgx.CollectRows(rows, pgx.RowTo[probe.Acceptance])
		return err
	}}
}

// SaveAcceptances records what was learnt of exchangers. Of visits at the same time one may
// have found out that a host answers by chance, and another, which knew nothing of that,
// not: the first is believed.
func (s *Store) SaveAcceptances(ctx context.Context, acceptances []probe.Acceptance) error {
	return s.saveAcceptances(ctx, acceptances)
}

// SaveAcceptancesSoon is SaveAcceptances for somebody who waits: what the server forgets if it crashes in the next
// half second is learnt again. It is no part of a transaction.
func (s *Store) SaveAcceptancesSoon(ctx context.Context, acceptances []probe.Acceptance) error {
	return s.saveAcceptances(ctx, acceptances, noDisk)
}

func (s *Store) saveAcceptances(ctx context.Context, acceptances []probe.Acceptance, before ...question) error {
	if len(acceptances) == 0 {
		return nil
	}
	ordered := slices.SortedFunc(slices.Values(acceptances), func(a, b probe.Acceptance) int { // one order for all, against deadlocks
		return cmp.Or(cmp.Compare(a.Domain, b.Domain), cmp.Compare(a.Exchanger, b.Exchanger), cmp.Compare(a.Route, b.Route), a.At.Compare(b.At))
	})
	var domains, exchangers []string
	var routes []int64
	var at []time.Time
	for i, a := range ordered {
		last := len(domains) - 1
		if i > 0 && a.Domain == domains[last] && a.Exchanger == exchangers[last] && a.Route == routes[last] {
			ordered[last], at[last] = a, a.At // asked as several identities
			continue
		}
		ordered[last+1] = a
		domains, exchangers, routes, at = append(domains, a.Domain), append(exchangers, a.Exchanger), append(routes, a.Route), append(at, a.At)
	}
	return s.ask(ctx, append(before, change(`
		INSERT INTO acceptance (domain, exchanger, route_id, facts, at) SELECT * FROM unnest($1::text[], $2::text[], $3::bigint[], $4::jsonb[], $5::timestamptz[])
		ON CONFLICT (domain, exchanger, route_id) DO UPDATE SET facts = EXCLUDED.facts, at = EXCLUDED.at
		WHERE NOT (acceptance.facts->>'accepts' = 'mixed' AND EXCLUDED.facts->>'accepts' = 'known' AND acceptance.at > EXCLUDED.at - $6::interval
			AND coalesce((EXCLUDED.facts->>'refused')::int, 0) < $7)`, domains, exchangers, routes, ordered[:len(domains)], at, probe.Fresh, probe.Proof))...)
}

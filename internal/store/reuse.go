package store

import (
	"context"
	"time"
)

// Fresh is a verdict and since when its results are still taken for true.
type Fresh struct {
	Verdict int32
	Since   time.Time
}

// chosen tells in SQL the freshest results of the workspace's earlier runs for the
// addresses of a list.
const chosen = `fresh AS (SELECT * FROM unnest($3::int[], $4::timestamptz[]) f(verdict, since)),
	chosen AS (
		SELECT DISTINCT ON (n.ordinal) n.ordinal, x.verdict, x.evidence, x.at
		FROM run u JOIN list_row o ON o.list_id = u.list_id AND o.address = o.ordinal
		JOIN list_row n ON n.list_id = $2 AND n.address = n.ordinal AND n.domain = o.domain
			AND lower(coalesce(n.mailbox, n.typed)) = lower(coalesce(o.mailbox, o.typed))
		JOIN result x ON x.run_id = u.id AND x.address = o.ordinal
		JOIN fresh f ON f.verdict = x.verdict AND x.at > f.since
		WHERE u.workspace_id = $5 AND ($1 = 0 OR u.id < $1) AND u.depth = 'mailbox'
			AND (NOT $6 OR u.sample IS NOT NULL AND u.list_id = $2)
		ORDER BY n.ordinal, x.at DESC
	)`

// arguments of what is chosen for a run; one that is no run yet has number 0.
func (run Run) arguments(fresh []Fresh, onlySample bool) []any {
	verdicts, since := make([]int32, len(fresh)), make([]time.Time, len(fresh))
	for i, f := range fresh {
		verdicts[i], since[i] = f.Verdict, f.Since
	}
	return []any{run.ID, run.ListID, verdicts, since, run.WorkspaceID, onlySample}
}

// Reusable counts the results that Reuse would take over.
func (s *Store) Reusable(ctx context.Context, run Run, fresh []Fresh, onlySample bool) (n int64, err error) {
	err = s.db.QueryRow(ctx, "WITH "+chosen+" SELECT count(*) FROM chosen", run.arguments(fresh, onlySample)...).Scan(&n)
	return n, err
}

// Reuse takes over the freshest results of the workspace's earlier runs for the
// addresses of a run's list, with what the name service said of their domains,
// and gives how many they are; onlySample leaves it at the samples of the same
// list. It belongs in the transaction that records the plan.
func (s *Store) Reuse(ctx context.Context, run Run, fresh []Fresh, onlySample bool) (n int64, err error) {
	err = s.db.QueryRow(ctx, `
		WITH `+chosen+`, taken AS (INSERT INTO result (run_id, address, verdict, evidence, at) SELECT $1, ordinal, verdict, evidence, at FROM chosen RETURNING verdict),
		counted AS (INSERT INTO tally (run_id, verdict, addresses, at) SELECT $1, verdict, count(*), 'epoch' FROM taken GROUP BY verdict RETURNING addresses)
		SELECT coalesce(sum(addresses), 0) FROM counted`, run.arguments(fresh, onlySample)...).Scan(&n)
	if err != nil || n == 0 {
		return n, err
	}
	_, err = s.db.Exec(ctx, `INSERT INTO run_domain (run_id, domain, operator, facts)
		SELECT DISTINCT ON (d.domain) $1, d.domain, d.operator, d.facts
		FROM run_domain d JOIN run u ON u.id = d.run_id JOIN list_domain l ON l.list_id = $2 AND l.domain = d.domain
		WHERE u.workspace_id = $3 AND u.id < $1 AND u.depth = 'mailbox' ORDER BY d.domain, d.run_id DESC`, run.ID, run.ListID, run.WorkspaceID)
	return n, err
}

// Sampled tells whether a sample of a list was asked about.
func (s *Store) Sampled(ctx context.Context, list int64) (is bool, err error) {
	err = s.db.QueryRow(ctx, "SELECT EXISTS (SELECT FROM run WHERE list_id = $1 AND sample IS NOT NULL)", list).Scan(&is)
	return is, err
}

package store

import (
	"context"
	"fmt"
	"time"

	"varnet/core/ledger"
)

// Used is what was charged for one day, run, routine, connection, key or person.
type Used struct {
	ID     int64     // 0: none, or what it was is told by Label alone
	Day    time.Time // where it is of a day
	Label  string
	Checks int64
	Times  int64 // runs and checks
}

// What usage can be counted by.
const (
	ByDay        = "day"
	ByRun        = "run"
	ByRoutine    = "routine"
	ByConnection = "connection"
	ByKey        = "key"
	ByPerson     = "person"
)

// usageBy tells in SQL the number and the label of what usage is counted by. What is gone has no
// label, what it never had is number 0.
var usageBy = map[string][2]string{
	ByRun:        {"r.run_id", "max(r.list)"},
	ByRoutine:    {"r.routine_id", "(SELECT name FROM routine WHERE id = r.routine_id)"},
	ByConnection: {"r.connection_id", "(SELECT name FROM connection WHERE id = r.connection_id)"},
	ByKey:        {"r.key_id", "(SELECT name FROM key WHERE id = r.key_id)"},
	ByPerson:     {"r.person_id", "(SELECT name FROM person WHERE id = r.person_id)"},
}

// charges tells in SQL what of entries e was used, and charging which of them count for it.
const (
	charges  = "sum(CASE WHEN e.why = 'charge' THEN e.amount ELSE -e.amount END)::bigint"
	charging = "e.why IN ('charge', 'charge taken back', 'waiver')"
)

// Usage returns what was charged from a time to before another, the most first; by day, the earliest
// first, with days in the zone.
func (s *Store) Usage(ctx context.Context, workspace int64, by string, from, until time.Time, zone string) ([]Used, error) {
	const of = " FROM ledger_entry e JOIN reservation r ON r.id = e.reservation_id WHERE e.workspace_id = $1 AND e.at >= $2 AND e.at < $3 AND " + charging
	if by == ByDay {
		return many[Used](ctx, s.db, `SELECT 0::bigint AS id, day, '' AS label, checks, times FROM (SELECT date_trunc('day', e.at AT TIME ZONE $4) AT TIME ZONE $4 AS day, `+charges+` AS checks, count(DISTINCT r.id) AS times`+of+` GROUP BY 1) d ORDER BY day`,
			workspace, from, until, zone)
	}
	b, ok := usageBy[by]
	if !ok {
		return nil, fmt.Errorf("usage is not counted by %q", by)
	}
	return many[Used](ctx, s.db, fmt.Sprintf(`SELECT coalesce(%[1]s, 0) AS id, '0001-01-01'::timestamptz AS day, coalesce(%[2]s, '') AS label, %[3]s AS checks, count(DISTINCT r.id) AS times%[4]s GROUP BY %[1]s ORDER BY checks DESC, 1 LIMIT 1000`,
		b[0], b[1], charges, of), workspace, from, until)
}

// UsedSince returns how many checks were charged since a time.
func (s *Store) UsedSince(ctx context.Context, workspace int64, since time.Time) (n int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT coalesce("+charges+", 0) FROM ledger_entry e WHERE workspace_id = $1 AND at >= $2 AND "+charging, workspace, since).Scan(&n)
	return n, err
}

// Posted is a line of a statement: what came or went, all charges of a reservation together.
type Posted struct {
	At            time.Time
	Why           ledger.Why
	Note          string
	Amount        int64 // below 0: it went
	ReservationID *int64
	What, List    string // of the reservation
	RunID         *int64
	Reserved      int64
	Charged       int64 // once it is closed
	ClosedAt      *time.Time
	ExpiresAt     *time.Time // of a lot that came
}

// Statement returns what a workspace held before a time, and what came and went from then to before
// another: entries between what it holds (available or set aside) and elsewhere.
func (s *Store) Statement(ctx context.Context, workspace int64, from, until time.Time) (before int64, lines []Posted, err error) {
	const held = "account IN ('available', 'reserved')"
	if err = s.db.QueryRow(ctx, "SELECT coalesce(sum(amount), 0)::bigint FROM ledger_side WHERE workspace_id = $1 AND at < $2 AND "+held, workspace, from).Scan(&before); err != nil {
		return 0, nil, err
	}
	lines, err = many[Posted](ctx, s.db, `WITH moved AS (
			SELECT e.*, CASE WHEN to_account IN ('available', 'reserved') THEN amount ELSE -amount END AS change FROM ledger_entry e
			WHERE workspace_id = $1 AND at >= $2 AND at < $3 AND (from_account IN ('available', 'reserved')) <> (to_account IN ('available', 'reserved'))),
		lines AS (
			SELECT max(at) AS at, 'charge' AS why, '' AS note, sum(change)::bigint AS amount, reservation_id, NULL::bigint AS lot_id FROM moved WHERE reservation_id IS NOT NULL GROUP BY reservation_id
			UNION ALL SELECT at, why, note, change, NULL, lot_id FROM moved WHERE reservation_id IS NULL)
		SELECT l.at, l.why, l.note, l.amount, l.reservation_id, coalesce(r.what, '') AS what, coalesce(r.list, '') AS list, r.run_id, coalesce(r.reserved, 0) AS reserved, coalesce(r.charged, 0) AS charged, r.closed_at, lot.expires_at
		FROM lines l LEFT JOIN reservation r ON r.id = l.reservation_id LEFT JOIN lot ON lot.id = l.lot_id WHERE l.amount <> 0 ORDER BY l.at, l.reservation_id, l.lot_id`, workspace, from, until)
	return before, lines, err
}

// Wrongs are what the book of an installation holds that cannot be, by what is wrong.
func (s *Store) Wrongs(ctx context.Context) (map[string]int64, error) {
	out := map[string]int64{}
	for what, query := range map[string]string{
		"the sum of all entries": "SELECT coalesce(sum(amount), 0)::bigint FROM ledger_side",
		"lots that differ from them": `SELECT count(*) FROM lot l FULL JOIN (SELECT lot_id, sum(amount) AS n FROM ledger_side WHERE lot_id IS NOT NULL AND account = 'available' GROUP BY 1) e ON e.lot_id = l.id
			WHERE coalesce(l.remaining, 0) <> coalesce(e.n, 0)`,
		"closed reservations that still hold something": `SELECT count(*) FROM (SELECT e.reservation_id FROM ledger_side e JOIN reservation r ON r.id = e.reservation_id
			WHERE account = 'reserved' AND closed_at IS NOT NULL GROUP BY 1 HAVING sum(amount) <> 0) w`,
		"open reservations that hold another amount than was set aside": `SELECT count(*) FROM reservation r WHERE closed_at IS NULL AND reserved <> (SELECT coalesce(sum(amount), 0) FROM ledger_side
			WHERE reservation_id = r.id AND account = 'available') * -1`,
		"open reservations without anything at work": `SELECT count(*) FROM reservation r WHERE closed_at IS NULL AND at < now() - interval '1 hour' AND (what = 'check'
			OR NOT EXISTS (SELECT FROM run WHERE id = r.run_id AND (state NOT IN ('finished', 'stopped') OR EXISTS (SELECT FROM parcel WHERE run_id = r.run_id AND state = 'claimed'))))`,
		"accounts below 0": `SELECT count(*) FROM (SELECT workspace_id FROM ledger_side WHERE account = 'available' GROUP BY 1 HAVING sum(amount) < 0) w`,
		"purchases credited otherwise than paid": `SELECT count(*) FROM purchase p WHERE (state IN ('paid', 'paid back', 'charged back') AND paid_at IS NOT NULL) <> (lot_id IS NOT NULL)
			OR lot_id IS NOT NULL AND NOT EXISTS (SELECT FROM lot WHERE id = p.lot_id AND amount = p.checks AND source = 'bought')`,
		"lots that came with another amount than their entry": `SELECT count(*) FROM lot l LEFT JOIN (SELECT lot_id, sum(amount) AS n FROM ledger_entry WHERE to_account = 'available' AND why NOT IN ('refund') AND lot_id IS NOT NULL GROUP BY 1) e ON e.lot_id = l.id
			WHERE l.amount <> e.n`,
		"papers whose numbers leave one out": "SELECT count(*) FROM (SELECT kind FROM invoice GROUP BY kind HAVING count(*) <> max(number)) w",
	} {
		var n int64
		if err := s.db.QueryRow(ctx, query).Scan(&n); err != nil {
			return nil, fmt.Errorf("%s: %w", what, err)
		}
		if n != 0 {
			out[what] = n
		}
	}
	return out, nil
}

// TrialBalance returns the balance of each account over all workspaces, and how many entries there are.
func (s *Store) TrialBalance(ctx context.Context) (balances map[ledger.Account]int64, entries, workspaces int64, err error) {
	if balances, err = s.Balances(ctx, 0); err != nil {
		return nil, 0, 0, err
	}
	err = s.db.QueryRow(ctx, "SELECT count(*), count(DISTINCT workspace_id) FROM ledger_entry").Scan(&entries, &workspaces)
	return balances, entries, workspaces, err
}

// Spent is what one reservation of a run came to so far.
type Spent struct {
	Reserved, Charged int64
	Open              bool
}

// SpentOn returns what was set aside for a run and charged, oldest first.
func (s *Store) SpentOn(ctx context.Context, run int64) ([]Spent, error) {
	return many[Spent](ctx, s.db, `SELECT reserved, CASE WHEN closed_at IS NULL THEN coalesce(`+chargedOn+`, 0) ELSE charged END AS charged, closed_at IS NULL AS open FROM reservation r WHERE run_id = $1 ORDER BY id`, run)
}

// UsedOfAll returns how many checks each workspace was charged since a time.
func (s *Store) UsedOfAll(ctx context.Context, since time.Time) (map[int64]int64, error) {
	return s.byWorkspace(ctx, "SELECT workspace_id, "+charges+" FROM ledger_entry e WHERE at >= $1 AND "+charging+" GROUP BY 1", since)
}

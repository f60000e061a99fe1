package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/ledger"
)

// Allowance is what is kept of the allowance of a workspace beside its book.
type Allowance struct {
	WorkspaceID  int64
	PlanID       int64
	Plan         ledger.Plan
	Since        time.Time // months are counted from here
	Grants       int       // of the plan that came
	Low          int64     // under so many checks somebody is told; 0: never
	LowTold      bool
	Refill       *ledger.RefillRule
	Method       string // what the stored payment method is called; "": there is none
	MethodSealed []byte
	Subscription int64 // checks bought each month, 0: none
	SubscribedAt *time.Time
	Renewals     int // months of the subscription that were ordered
	Buyer        *Party
}

// GrantDue is when the next grant of the plan comes.
func (a Allowance) GrantDue() time.Time { return ledger.Month(a.Since, a.Grants) }

// RenewalDue is when the subscription is ordered next; it has to have one.
func (a Allowance) RenewalDue() time.Time { return ledger.Month(*a.SubscribedAt, a.Renewals) }

const allowanceQuery = `SELECT a.workspace_id, a.plan_id, p.terms AS plan, a.since, a.grants, a.low, a.low_told, a.refill, a.method, a.method_sealed,
	a.subscription, a.subscribed_at, a.renewals, a.buyer FROM allowance a JOIN plan p ON p.id = a.plan_id `

// Allowance returns the allowance of a workspace; ErrNotFound where none is kept.
func (s *Store) Allowance(ctx context.Context, workspace int64) (Allowance, error) {
	return one[Allowance](ctx, s.db, allowanceQuery+"WHERE a.workspace_id = $1 AND a.kept", workspace)
}

// LockAllowance is Allowance, and holds it until the transaction ends, so that of all who set
// checks aside each sees what the one before left.
func (s *Store) LockAllowance(ctx context.Context, workspace int64) (Allowance, error) {
	return one[Allowance](ctx, s.db, allowanceQuery+"WHERE a.workspace_id = $1 AND a.kept FOR UPDATE OF a", workspace)
}

// HeldBook is the allowance of a workspace with its book. Until the transaction ends nobody else sets checks aside or
// adds any; what a single check did not use may still come back into its lots (CloseReservation).
type HeldBook struct {
	Allowance
	Kept bool // false: no allowance is kept, or none any more
	*ledger.Book
}

// HoldBook locks the allowance of a workspace, and returns it with its book.
func (s *Store) HoldBook(ctx context.Context, workspace int64) (HeldBook, error) {
	return s.holdBook(ctx, workspace, nil, nil)
}

// HoldForReservation is HoldBook, and gives a reservation that is to be made its ID.
func (s *Store) HoldForReservation(ctx context.Context, r *Reservation) (HeldBook, error) {
	return s.holdBook(ctx, r.WorkspaceID, soon(*r), nil, identified(r))
}

func identified(r *Reservation) question {
	return row([]any{&r.ID}, "SELECT nextval(pg_get_serial_sequence('reservation', 'id'))")
}

// ReserveCheck makes a reservation for a single check in two round trips, since somebody waits: BEGIN goes out with
// what is held, and COMMIT with what take makes of it. Where take reports that there is more to do than that, or no
// allowance is kept, nothing is made, and made is false.
func (s *Store) ReserveCheck(ctx context.Context, r *Reservation, take func(s *Store, h HeldBook) (all bool, err error)) (made bool, err error) {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return false, err
	}
	defer conn.Release()
	within := *s
	within.db = door{conn}
	defer func() {
		if !made {
			_, _ = conn.Exec(context.WithoutCancel(ctx), "ROLLBACK")
		}
	}()
	h, err := within.holdBook(ctx, r.WorkspaceID, append([]question{change("BEGIN")}, soon(*r)...), nil, identified(r))
	if err != nil || !h.Kept {
		return false, err
	}
	if all, err := take(&within, h); err != nil || !all {
		return false, err
	}
	err = within.ask(ctx, newReservation(*r, h.Book), change("COMMIT"))
	return err == nil, err
}

// soon commits what sets single checks aside, or charges them, without waiting for the disk. If the server crashes,
// those of its last half second may be lost: the checks were free then, and the book still balances.
func soon(r Reservation) []question {
	if r.What != ForCheck {
		return nil
	}
	return []question{noDisk}
}

// HoldReservation is HoldBook for a reservation that is to be closed: the book has the lots it was taken from, too.
// charged is what it was charged with so far; open is false where it is closed.
func (s *Store) HoldReservation(ctx context.Context, r Reservation) (h HeldBook, charged int64, open bool, err error) {
	h, err = s.holdBook(ctx, r.WorkspaceID, nil, r.Taken,
		row([]any{&open}, "SELECT true FROM reservation WHERE id = $1 AND closed_at IS NULL FOR UPDATE", r.ID),
		row([]any{&charged}, "SELECT coalesce("+chargedOn+", 0) FROM reservation r WHERE id = $1", r.ID))
	return h, charged, open, err
}

// holdBook asks for all that somebody waits for in one round trip; the allowance is locked before all that also locks.
func (s *Store) holdBook(ctx context.Context, workspace int64, first []question, taken []ledger.Taken, also ...question) (HeldBook, error) {
	h := HeldBook{Book: &ledger.Book{}}
	var kept []Allowance
	all := append(first, records(&kept, allowanceQuery+"WHERE a.workspace_id = $1 AND a.kept FOR UPDATE OF a", workspace))
	err := s.ask(ctx, append(append(all, also...), lotsOf(h.Book, workspace, taken))...)
	if h.Kept = len(kept) > 0; h.Kept {
		h.Allowance = kept[0]
	}
	return h, err
}

// EndedAllowance returns an allowance that was kept once, and holds it.
func (s *Store) EndedAllowance(ctx context.Context, workspace int64) (Allowance, error) {
	return one[Allowance](ctx, s.db, allowanceQuery+"WHERE a.workspace_id = $1 AND NOT a.kept FOR UPDATE OF a", workspace)
}

// SetAllowance records an allowance.
func (s *Store) SetAllowance(ctx context.Context, a Allowance) error {
	_, err := s.db.Exec(ctx, `INSERT INTO allowance (workspace_id, plan_id, since, grants, low, low_told, refill, method, method_sealed, subscription, subscribed_at, renewals, buyer)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13) ON CONFLICT (workspace_id) DO UPDATE SET kept = true, plan_id = $2, since = $3, grants = $4, low = $5, low_told = $6, refill = $7,
		method = $8, method_sealed = $9, subscription = $10, subscribed_at = $11, renewals = $12, buyer = $13`,
		a.WorkspaceID, a.PlanID, a.Since, a.Grants, a.Low, a.LowTold, a.Refill, a.Method, a.MethodSealed, a.Subscription, a.SubscribedAt, a.Renewals, a.Buyer)
	return err
}

// EndAllowance keeps no allowance of a workspace any more; its book stays, and what was set.
func (s *Store) EndAllowance(ctx context.Context, workspace int64) error {
	_, err := s.db.Exec(ctx, "UPDATE allowance SET kept = false WHERE workspace_id = $1", workspace)
	return err
}

// Allowances returns all that are kept.
func (s *Store) Allowances(ctx context.Context) ([]Allowance, error) {
	return many[Allowance](ctx, s.db, allowanceQuery+"WHERE a.kept ORDER BY a.workspace_id")
}

// Book returns the book of a workspace, with the lots that have checks left.
func (s *Store) Book(ctx context.Context, workspace int64) (*ledger.Book, error) {
	b := &ledger.Book{}
	return b, s.ask(ctx, lotsOf(b, workspace, nil))
}

// lotsOf asks for the lots of a workspace that have checks left, and those that some were taken from.
func lotsOf(b *ledger.Book, workspace int64, taken []ledger.Taken) question {
	from := make([]int64, len(taken))
	for i, t := range taken {
		from[i] = t.Lot
	}
	return question{"SELECT id, source, remaining, expires_at FROM lot WHERE workspace_id = $1 AND (remaining > 0 OR id = ANY($2)) ORDER BY id", []any{workspace, from},
		func(rows pgx.Rows) (err error) {
			b.Lots, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (l ledger.Lot, err error) {
				var until *time.Time
				if err = row.Scan(&l.ID, &l.Source, &l.Left, &until); until != nil {
					l.ExpiresAt = *until
				}
				return l, err
			})
			return err
		}}
}

// NewLot records a lot that is to hold what is left of it, which its first entry puts there, and gives it its ID.
func (s *Store) NewLot(ctx context.Context, workspace int64, l *ledger.Lot, now time.Time) error {
	return s.db.QueryRow(ctx, "INSERT INTO lot (workspace_id, source, amount, expires_at, added_at) VALUES ($1, $2, $3, $4, $5) RETURNING id",
		workspace, string(l.Source), l.Left, orNull(!l.ExpiresAt.IsZero(), l.ExpiresAt), now).Scan(&l.ID)
}

// EndLot lets a lot expire at a time, so that what comes back into it later is gone.
func (s *Store) EndLot(ctx context.Context, lot int64, at time.Time) error {
	return s.changed(ctx, "UPDATE lot SET expires_at = $2 WHERE id = $1", lot, at)
}

// SaveBook records the entries that were made in a book, and what they leave in its lots. It
// belongs in the transaction that locked the allowance.
func (s *Store) SaveBook(ctx context.Context, workspace int64, b *ledger.Book, note string, now time.Time) error {
	if len(b.Entries) == 0 {
		return nil
	}
	_, err := s.db.Exec(ctx, "WITH "+entered(""), entries(workspace, b, note, now)...)
	b.Entries = nil
	return err
}

// entered is the end of a statement in SQL that records what entries returns. only is "", or names a part of the
// statement, with a comma behind it: then nothing is recorded unless that part has a row. Lots are locked in order,
// since a check that is charged holds no allowance.
func entered(only string) string {
	return `changed AS (SELECT l.id, c.change FROM ` + only + `unnest($4::bigint[], $5::bigint[]) AS c (lot, change) JOIN lot l ON l.id = c.lot AND l.workspace_id = $1 ORDER BY l.id FOR UPDATE OF l),
		given AS (UPDATE lot SET remaining = remaining + changed.change FROM changed WHERE lot.id = changed.id)
		INSERT INTO ledger_entry (workspace_id, at, note, from_account, to_account, why, amount, reservation_id, lot_id)
		SELECT $1, $2::timestamptz, $3::text, source, target, why, amount, nullif(reservation, 0), nullif(lot, 0)
		FROM ` + only + `unnest($6::text[], $7::text[], $8::text[], $9::bigint[], $10::bigint[], $11::bigint[]) WITH ORDINALITY AS e (source, target, why, amount, reservation, lot, n) ORDER BY n`
}

// entries are the parameters of entered, and more after them.
func entries(workspace int64, b *ledger.Book, note string, now time.Time, more ...any) []any {
	left := map[int64]int64{}
	var from, to, why []string
	var amounts, reservations, lots, changed, changes []int64
	for _, e := range b.Entries {
		switch ledger.Available {
		case e.From:
			left[e.Lot] -= e.Amount
		case e.To:
			left[e.Lot] += e.Amount
		}
		from, to, why = append(from, string(e.From)), append(to, string(e.To)), append(why, string(e.Why))
		amounts, reservations, lots = append(amounts, e.Amount), append(reservations, e.Reservation), append(lots, e.Lot)
	}
	for lot, change := range left {
		changed, changes = append(changed, lot), append(changes, change)
	}
	return append([]any{workspace, now, note, changed, changes, from, to, why, amounts, reservations, lots}, more...)
}

// What a reservation may be for.
const (
	ForRun   = "run"
	ForAgain = "again" // a run asks again
	ForCheck = "check"
)

// By is who or what uses checks: a person, a key or a routine, and the connection that a list came from.
type By struct {
	PersonID, KeyID, RoutineID, ConnectionID *int64
}

// Reservation is what is set aside for a run or a check. Once it is made, only Charged and ClosedAt change.
type Reservation struct {
	ID          int64
	WorkspaceID int64
	What        string
	RunID       *int64
	List        string
	By
	CostSyntax, CostDomain, CostMailbox int64
	Reserved                            int64
	Taken                               []ledger.Taken
	Charged                             int64 // once it is closed
	At                                  time.Time
	ClosedAt                            *time.Time
}

// Costs are what its findings cost.
func (r Reservation) Costs() ledger.Costs {
	return ledger.Costs{Syntax: r.CostSyntax, Domain: r.CostDomain, Mailbox: r.CostMailbox}
}

// Held is what is set aside.
func (r Reservation) Held() ledger.Reservation {
	return ledger.Reservation{ID: r.ID, Reserved: r.Reserved, Taken: r.Taken}
}

const reservationColumns = "id, workspace_id, what, run_id, list, person_id, key_id, routine_id, connection_id, cost_syntax, cost_domain, cost_mailbox, reserved, taken, charged, at, closed_at"

// NewReservation records a reservation that HoldForReservation gave its ID, with what it changes in the book.
func (s *Store) NewReservation(ctx context.Context, r Reservation, b *ledger.Book) error {
	return s.ask(ctx, newReservation(r, b))
}

func newReservation(r Reservation, b *ledger.Book) question {
	return change(`WITH made AS (INSERT INTO reservation
			(id, workspace_id, at, what, run_id, list, person_id, key_id, routine_id, connection_id, cost_syntax, cost_domain, cost_mailbox, reserved, taken)
			OVERRIDING SYSTEM VALUE VALUES ($12, $1, $2, $13, $14, $15, $16, $17, $18, $19, $20, $21, $22, $23, $24)), `+entered(""),
		entries(r.WorkspaceID, b, "", r.At, r.ID, r.What, r.RunID, r.List, r.PersonID, r.KeyID, r.RoutineID, r.ConnectionID,
			r.CostSyntax, r.CostDomain, r.CostMailbox, r.Reserved, append([]ledger.Taken{}, r.Taken...))...)
}

// OpenReservations returns those of a run that are open.
func (s *Store) OpenReservations(ctx context.Context, run int64) ([]Reservation, error) {
	return many[Reservation](ctx, s.db, "SELECT "+reservationColumns+" FROM reservation WHERE run_id = $1 AND closed_at IS NULL ORDER BY id", run)
}

// checkMost is how long a single check may take: what is set aside for one that is older was left
// by a process that died.
const checkMost = 10 * time.Minute

// EndedReservations returns open reservations of which nothing is at work any more: of runs that
// ended or are gone and have no parcel in hand, and of checks that were left; of one run, or (0) all.
func (s *Store) EndedReservations(ctx context.Context, run int64, now time.Time) ([]Reservation, error) {
	return many[Reservation](ctx, s.db, "SELECT "+reservationColumns+` FROM reservation r WHERE closed_at IS NULL AND ($2::bigint = 0 OR run_id = $2) AND (
		what = 'check' AND at < $1 OR what <> 'check' AND NOT EXISTS (SELECT FROM run WHERE id = r.run_id AND (state NOT IN ('finished', 'stopped')
			OR EXISTS (SELECT FROM parcel WHERE run_id = r.run_id AND state = 'claimed')))) ORDER BY id LIMIT 1000`, now.Add(-checkMost), run)
}

// chargedOn tells in SQL what a reservation r was charged with so far; null where it was not.
const chargedOn = "(SELECT sum(CASE e.why WHEN 'charge' THEN e.amount ELSE -e.amount END)::bigint FROM ledger_entry e WHERE e.reservation_id = r.id AND e.why IN ('charge', 'charge taken back'))"

// CloseReservation records that a reservation is closed, with what it was charged with and what it changes in the
// book. One that is closed stays as it is.
func (s *Store) CloseReservation(ctx context.Context, r Reservation, b *ledger.Book) error {
	return s.ask(ctx, append(soon(r), change(`WITH closed AS (UPDATE reservation SET charged = $13, closed_at = $2 WHERE id = $12 AND closed_at IS NULL RETURNING id), `+entered("closed, "),
		entries(r.WorkspaceID, b, "", *r.ClosedAt, r.ID, r.Charged)...))...)
}

// SetAsideSince returns how many checks were set aside since a time, less what came back: by the
// workspace, by the person and by the key of by.
func (s *Store) SetAsideSince(ctx context.Context, workspace int64, by By, since time.Time) (all, person, key int64, err error) {
	err = s.db.QueryRow(ctx, `SELECT coalesce(sum(n), 0)::bigint, coalesce(sum(n) FILTER (WHERE person_id = $3), 0)::bigint, coalesce(sum(n) FILTER (WHERE key_id = $4), 0)::bigint
		FROM (SELECT person_id, key_id, CASE WHEN closed_at IS NULL THEN reserved ELSE least(reserved, greatest(charged, 0)) END AS n
			FROM reservation WHERE workspace_id = $1 AND at >= $2) r`, workspace, since, by.PersonID, by.KeyID).Scan(&all, &person, &key)
	return all, person, key, err
}

// EstimatesSince counts the quick estimates of a workspace since a time.
func (s *Store) EstimatesSince(ctx context.Context, workspace int64, since time.Time) (n int, err error) {
	err = s.db.QueryRow(ctx, "SELECT count(*) FROM run WHERE workspace_id = $1 AND sample IS NOT NULL AND created_at >= $2", workspace, since).Scan(&n)
	return n, err
}

// Balances returns the balance of each account of a workspace by its entries, or (0) of all workspaces.
func (s *Store) Balances(ctx context.Context, workspace int64) (map[ledger.Account]int64, error) {
	out := map[ledger.Account]int64{}
	rows, err := s.db.Query(ctx, "SELECT account, sum(amount)::bigint FROM ledger_side WHERE $1 = 0 OR workspace_id = $1 GROUP BY 1", workspace)
	if err != nil {
		return nil, err
	}
	var account ledger.Account
	var n int64
	_, err = pgx.ForEachRow(rows, []any{&account, &n}, func() error {
		out[account] = n
		return nil
	})
	return out, err
}

// AllowanceLeft is how many checks a workspace has.
type AllowanceLeft struct {
	WorkspaceID int64
	Available   int64
	Reserved    int64 // set aside and not charged yet
	Whole       int64 // Available with all that was used of lots that are not used up
	NextExpiry  *time.Time
	Expiring    int64 // checks that are over then
}

// AllowancesLeft returns how many checks all workspaces have, or (not 0) one.
func (s *Store) AllowancesLeft(ctx context.Context, workspace int64, now time.Time) (map[int64]AllowanceLeft, error) {
	all, err := many[AllowanceLeft](ctx, s.db, `WITH l AS (SELECT *, min(expires_at) OVER (PARTITION BY workspace_id) AS first FROM lot WHERE remaining > 0 AND ($1::bigint = 0 OR workspace_id = $1) AND (expires_at IS NULL OR expires_at > $2))
		SELECT a.workspace_id, coalesce((SELECT sum(remaining) FROM l WHERE l.workspace_id = a.workspace_id), 0)::bigint AS available,
			coalesce((SELECT sum(r.reserved - coalesce(`+chargedOn+`, 0)) FROM reservation r WHERE r.workspace_id = a.workspace_id AND closed_at IS NULL), 0)::bigint AS reserved,
			coalesce((SELECT sum(amount) FROM l WHERE l.workspace_id = a.workspace_id), 0)::bigint AS whole,
			(SELECT min(first) FROM l WHERE l.workspace_id = a.workspace_id) AS next_expiry,
			coalesce((SELECT sum(remaining) FROM l WHERE l.workspace_id = a.workspace_id AND expires_at = first), 0)::bigint AS expiring
		FROM allowance a WHERE kept AND ($1::bigint = 0 OR a.workspace_id = $1)`, workspace, now)
	out := make(map[int64]AllowanceLeft, len(all))
	for _, a := range all {
		out[a.WorkspaceID] = a
	}
	return out, err
}

// Availables returns how many checks workspaces have that have any.
func (s *Store) Availables(ctx context.Context) (map[int64]int64, error) {
	return s.byWorkspace(ctx, "SELECT workspace_id, sum(remaining)::bigint FROM lot WHERE remaining > 0 GROUP BY 1")
}

// byWorkspace returns the number that a query gives for each workspace.
func (s *Store) byWorkspace(ctx context.Context, query string, args ...any) (map[int64]int64, error) {
	rows, err := s.db.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	out := map[int64]int64{}
	var workspace, n int64
	_, err = pgx.ForEachRow(rows, []any{&workspace, &n}, func() error {
		out[workspace] = n
		return nil
	})
	return out, err
}

// WithExpiredLots returns the workspaces with lots that are over.
func (s *Store) WithExpiredLots(ctx context.Context, now time.Time) ([]int64, error) {
	return column[int64](ctx, s.db, "SELECT DISTINCT workspace_id FROM lot WHERE remaining > 0 AND expires_at <= $1", now)
}

// Renewed records that a month of the subscription is ordered; ok is false when it was already.
func (s *Store) Renewed(ctx context.Context, workspace int64, month int) (ok bool, err error) {
	tag, err := s.db.Exec(ctx, "UPDATE allowance SET renewals = renewals + 1 WHERE workspace_id = $1 AND renewals = $2 AND subscription > 0", workspace, month)
	return tag.RowsAffected() == 1, err
}

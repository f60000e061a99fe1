package store

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"varnet/core/finding"
)

// MovedRecord is a record of a workspace on its way to another installation, by column, as PostgreSQL
// writes it as JSON.
type MovedRecord = map[string]json.RawMessage

// MovedTables are the tables whose records move with a workspace, those first that others refer
// to.
func MovedTables() (names []string) {
	for _, t := range ownedTables {
		if t.moves {
			names = append(names, t.name)
		}
	}
	return names
}

// Snapshot calls do with a store that sees the database as it is at one moment.
func (s *Store) Snapshot(ctx context.Context, do func(*Store) error) error {
	return pgx.BeginTxFunc(ctx, s.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
		within := *s
		within.db = door{tx}
		return do(&within)
	})
}

// notMoved are the columns whose values stay: secrets, which another installation could not open,
// and people, who are others there.
var notMoved = map[string][]string{"connection": {"sealed"}, "event": {"seq", "person_id"}, "request": {"sealed"}}

// notMovedRecords are the records of moved tables that stay: what is for one person alone.
var notMovedRecords = map[string]string{"event": " AND person_id IS NULL", "request": " AND state = 'done'"}

// EachMoved calls do with every record of a table that moves with a workspace.
func (s *Store) EachMoved(ctx context.Context, workspace int64, table string, do func(MovedRecord) error) error {
	t := ownedTableOf(table)
	rows, err := s.db.Query(ctx, "SELECT row_to_json(t) FROM (SELECT * FROM "+t.name+" WHERE "+t.of+notMovedRecords[table]+" ORDER BY 1) t", workspace)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var text []byte
		if err := rows.Scan(&text); err != nil {
			return err
		}
		var m MovedRecord
		if err := json.Unmarshal(text, &m); err != nil {
			return fmt.Errorf("a record of %s: %w", table, err)
		}
		for _, column := range append([]string{"workspace_id"}, notMoved[table]...) {
			delete(m, column)
		}
		if err := do(m); err != nil {
			return err
		}
	}
	return rows.Err()
}

func ownedTableOf(name string) ownedTable {
	for _, t := range ownedTables {
		if t.name == name && t.moves {
			return t
		}
	}
	panic("no table moves that is called " + name)
}

// MovedWorkspace is a workspace itself as it moves.
type MovedWorkspace struct {
	Name          string
	CreatedAt     time.Time
	KeepDays      *int
	SecondFactor  bool
	ReadersExport bool
	ShareOutcomes bool
	Rules         json.RawMessage
	ErasedKey     []byte // sealed
	Lists         int64  // how many it has
}

// WorkspaceMoving returns a workspace as it moves.
func (s *Store) WorkspaceMoving(ctx context.Context, workspace int64) (MovedWorkspace, error) {
	return one[MovedWorkspace](ctx, s.db, `SELECT name, created_at, keep_days, second_factor, readers_export, share_outcomes, rules, erased_key,
		(SELECT count(*) FROM list WHERE workspace_id = $1) AS lists FROM workspace WHERE id = $1 AND ended_at IS NULL`, workspace)
}

// ErrNumberTaken tells that a number of what moves in is taken already.
var ErrNumberTaken = errors.New("the installation is not empty")

// Mover takes a workspace in that moves here from another installation. It is for one transaction.
type Mover struct {
	s         *Store
	workspace int64
	verdicts  map[int32]int32 // of there, as they are numbered here
	columns   map[string][]string
}

// MoveIn makes the workspace that takes another one's records in.
func (s *Store) MoveIn(ctx context.Context, w MovedWorkspace, verdicts map[int32]finding.Verdict) (m *Mover, workspace int64, err error) {
	made, err := s.NewWorkspace(ctx, w.Name)
	if err != nil {
		return nil, 0, err
	}
	if _, err := s.db.Exec(ctx, `UPDATE workspace SET created_at = $2, keep_days = $3, second_factor = $4, readers_export = $5, share_outcomes = $6, rules = $7, erased_key = $8 WHERE id = $1`,
		made.ID, w.CreatedAt, w.KeepDays, w.SecondFactor, w.ReadersExport, w.ShareOutcomes, w.Rules, w.ErasedKey); err != nil {
		return nil, 0, err
	}
	m = &Mover{s: s, workspace: made.ID, verdicts: map[int32]int32{0: 0}, columns: map[string][]string{}}
	for there, v := range verdicts {
		if m.verdicts[there], err = s.verdictID(ctx, v); err != nil {
			return nil, 0, err
		}
	}
	return m, made.ID, nil
}

// verdictsIn are the columns with numbers of verdicts.
var verdictsIn = map[string]string{"batch": "verdicts", "tally": "verdict", "mailed": "said", "parcel": "was"}

// Take takes a record in. A column that this release does not have is an error.
func (m *Mover) Take(ctx context.Context, table string, r MovedRecord) error {
	if err := m.renumber(r, verdictsIn[table]); err != nil {
		return fmt.Errorf("a record of %s: %w", table, err)
	}
	err := m.put(ctx, ownedTableOf(table).name, r, "")
	var told *pgconn.PgError
	if errors.As(err, &told) && told.Code == "23505" {
		return fmt.Errorf("%w: %s", ErrNumberTaken, told.Detail)
	}
	return err
}

// put inserts a record into a table, whose name is one of ours.
func (m *Mover) put(ctx context.Context, table string, r MovedRecord, conflict string) error {
	known, err := m.columnsOf(ctx, table)
	if err != nil {
		return err
	}
	if slices.Contains(known, "workspace_id") {
		r["workspace_id"] = fmt.Appendf(nil, "%d", m.workspace)
	}
	var names []string
	for _, c := range known {
		if _, ok := r[c]; ok {
			names = append(names, pgx.Identifier{c}.Sanitize())
		}
	}
	if len(names) != len(r) {
		return fmt.Errorf("a record of %s has columns that this release does not know", table)
	}
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	list := strings.Join(names, ", ")
	_, err = m.s.db.Exec(ctx, "INSERT INTO "+table+" ("+list+") OVERRIDING SYSTEM VALUE SELECT "+list+" FROM json_populate_record(NULL::"+table+", $1::json)"+conflict, string(text))
	return err
}

func (m *Mover) columnsOf(ctx context.Context, table string) (names []string, err error) {
	if names = m.columns[table]; names != nil {
		return names, nil
	}
	names, err = column[string](ctx, m.s.db, "SELECT column_name::text FROM information_schema.columns WHERE table_schema = 'public' AND table_name = $1 ORDER BY ordinal_position", table)
	m.columns[table] = names
	return names, err
}

// renumber gives a record the numbers that its verdicts have here.
func (m *Mover) renumber(r MovedRecord, column string) error {
	raw, ok := r[column]
	if !ok || string(raw) == "null" {
		return nil
	}
	here := func(there int32) (int32, error) {
		n, known := m.verdicts[there]
		if !known {
			return 0, fmt.Errorf("verdict %d is not among those that moved", there)
		}
		return n, nil
	}
	var one int32
	if json.Unmarshal(raw, &one) == nil {
		n, err := here(one)
		r[column] = fmt.Appendf(nil, "%d", n)
		return err
	}
	var all []int32
	if err := json.Unmarshal(raw, &all); err != nil {
		return err
	}
	for i, there := range all {
		n, err := here(there)
		if err != nil {
			return err
		}
		all[i] = n
	}
	r[column], _ = json.Marshal(all)
	return nil
}

// Settle ends the moving in: numbers go on after those that came, runs that were at work wait for
// somebody to let them go on, and what needs credentials waits for them.
func (m *Mover) Settle(ctx context.Context) error {
	counters, err := many[struct{ Table, Column string }](ctx, m.s.db, `SELECT table_name::text AS table, column_name::text AS column FROM information_schema.columns
		WHERE table_schema = 'public' AND is_identity = 'YES' AND table_name = ANY($1)`, MovedTables())
	if err != nil {
		return err
	}
	for _, c := range counters {
		if _, err := m.s.db.Exec(ctx, fmt.Sprintf("SELECT setval(pg_get_serial_sequence('%[1]s', '%[2]s'), greatest((SELECT max(%[2]s) FROM %[1]s), 1))", c.Table, c.Column)); err != nil {
			return err
		}
	}
	for _, sql := range []string{
		`UPDATE run SET state = CASE WHEN (plan->>'done')::boolean THEN 'paused' ELSE 'stopped' END, resume_at = NULL, finished_at = CASE WHEN (plan->>'done')::boolean THEN NULL ELSE now() END
			WHERE workspace_id = $1 AND state IN ('running', 'paused')`,
		`UPDATE parcel SET lane = NULL, state = CASE WHEN run.state = 'paused' THEN 'paused' ELSE 'void' END FROM run WHERE run.id = run_id AND run.workspace_id = $1 AND parcel.state IN ('open', 'claimed', 'paused')`,
		`UPDATE routine SET paused_at = coalesce(paused_at, now()), next_at = NULL, look_at = NULL WHERE workspace_id = $1`,
		`UPDATE connection SET broken_at = now(), says = 'The workspace moved here from another installation, and credentials do not move with it. Enter them again.' WHERE workspace_id = $1`,
		`UPDATE connection_import SET state = 'failed', ended_at = now(), says = 'The workspace was moved meanwhile.' WHERE workspace_id = $1 AND ended_at IS NULL`,
		`UPDATE routine_time SET state = 'failed', ended_at = now(), says = 'The workspace was moved meanwhile.' WHERE ended_at IS NULL AND routine_id IN (SELECT id FROM routine WHERE workspace_id = $1)`,
		`UPDATE mailing SET state = 'closed', closed_at = now(), says = 'The workspace was moved meanwhile.' WHERE workspace_id = $1 AND state = 'preparing'`,
		`UPDATE write_back SET state = 'failed', ended_at = now(), says = 'The workspace was moved meanwhile.' WHERE workspace_id = $1 AND ended_at IS NULL`,
		`UPDATE workshop_job SET state = 'failed', ended_at = now(), says = 'The workspace was moved meanwhile.' WHERE workspace_id = $1 AND ended_at IS NULL`,
	} {
		if _, err := m.s.db.Exec(ctx, sql, m.workspace); err != nil {
			return err
		}
	}
	return nil
}

// Remembered is what is remembered of an address by its fingerprint, with the address.
type Remembered struct {
	Table   string      `json:"table"`
	Address string      `json:"address"` // in its canonical form
	Record  MovedRecord `json:"record"`
}

// rememberedTables are the tables whose records know an address by its fingerprint alone.
var rememberedTables = []string{"absence", "outcome", "activity", "observation", "trial_sent"}

// EachRemembered calls do with what is remembered of the addresses of a workspace's lists and
// mailings; what is remembered of others cannot be told from its fingerprint. Of an address in
// several lists it may come again.
func (s *Store) EachRemembered(ctx context.Context, workspace int64, do func(Remembered) error) error {
	lists, err := s.AllLists(ctx, workspace)
	if err != nil {
		return err
	}
	for _, l := range lists {
		if err := s.canonicalsIn(ctx, l.ID, func(some map[string]int32) error { return s.rememberedOf(ctx, workspace, sortedKeys(some), do) }); err != nil {
			return err
		}
	}
	for after := ""; ; {
		some, err := many[struct{ Canonical string }](ctx, s.db, "SELECT DISTINCT canonical FROM mailed WHERE workspace_id = $1 AND canonical > $2 ORDER BY 1 LIMIT $3", workspace, after, outcomesAtOnce)
		if err != nil || len(some) == 0 {
			return err
		}
		var canonicals []string
		for _, c := range some {
			canonicals = append(canonicals, c.Canonical)
		}
		after = canonicals[len(canonicals)-1]
		if err := s.rememberedOf(ctx, workspace, canonicals, do); err != nil {
			return err
		}
	}
}

func (s *Store) rememberedOf(ctx context.Context, workspace int64, canonicals []string, do func(Remembered) error) error {
	byPrint, prints := s.printsOf(canonicals)
	for _, table := range rememberedTables {
		type record struct{ Fingerprint, Record []byte }
		found, err := many[record](ctx, s.db, "SELECT fingerprint, row_to_json(t)::text::bytea AS record FROM "+table+" t WHERE workspace_id = $1 AND fingerprint = ANY($2)", workspace, prints)
		if err != nil {
			return err
		}
		for _, f := range found {
			r := Remembered{Table: table, Address: byPrint[string(f.Fingerprint)]}
			if err := json.Unmarshal(f.Record, &r.Record); err != nil {
				return err
			}
			for _, column := range []string{"workspace_id", "fingerprint", "secret"} {
				delete(r.Record, column)
			}
			if err := do(r); err != nil {
				return err
			}
		}
	}
	return nil
}

// Remember takes in what was remembered of an address elsewhere, by its fingerprint here.
func (m *Mover) Remember(ctx context.Context, r Remembered) error {
	if !slices.Contains(rememberedTables, r.Table) {
		return fmt.Errorf("nothing is remembered in %q", r.Table)
	}
	f := m.s.fingerprints()(string(plain(r.Address)))[0]
	r.Record["fingerprint"], _ = json.Marshal(`\x` + hex.EncodeToString(f.Sum))
	r.Record["secret"], _ = json.Marshal(`\x` + hex.EncodeToString(f.Secret))
	return m.put(ctx, r.Table, r.Record, " ON CONFLICT DO NOTHING")
}

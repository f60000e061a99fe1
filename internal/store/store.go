// Package store keeps everything in PostgreSQL. It holds all of Varnet's SQL
// and decides nothing.
//
// A Store works on a pool; InTx returns one that works in a transaction, in which
// jobs are inserted too. Bulk goes by COPY; nothing is updated row by row.
package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"

	"varnet/core/erase"
	"varnet/internal/store/pack"
)

// ErrNotFound tells that there is no such record in the workspace.
var ErrNotFound = errors.New("not found")

// querier is what a pool and a transaction have in common.
type querier interface {
	SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
	CopyFrom(ctx context.Context, table pgx.Identifier, columns []string, src pgx.CopyFromSource) (int64, error)
	Begin(ctx context.Context) (pgx.Tx, error)
}

// Store is the way to the database.
type Store struct {
	pool *pgxpool.Pool
	db   door
	// requests and bulk are pools of their own: who waits for one waits for none of the
	// others.
	requests, bulk *pgxpool.Pool
	// sessions are connections that keep their session.
	sessions *pgxpool.Pool
	replica  *replica // nil: there is none
	verdicts *verdictCache
	// latestCache are shared by the stores of all transactions.
	latestCache *latestCache
	activities  *activityCache
	// fingerprints are how absent mailboxes are remembered.
	fingerprints func() Fingerprints
	// gone returns what finds the addresses that a workspace is not to keep again.
	gone func(ctx context.Context, s *Store, workspace int64) (*erase.Eraser, error)
	// now is by which results are stamped.
	now func() time.Time
	// giveWay waits between pieces of bulk for what somebody waits for.
	giveWay func(context.Context)
}

// Open connects to PostgreSQL. The error names what to check.
func Open(ctx context.Context, dsn string) (*Store, error) { return OpenPooled(ctx, dsn, "") }

// OpenPooled connects to PostgreSQL through a pooler, which may give each transaction another session
// of the server. What needs a session of its own, locks that outlast a transaction and what is listened
// to, goes by another address, sessions; "": there is no pooler, and all goes by one.
func OpenPooled(ctx context.Context, dsn, sessions string) (s *Store, err error) {
	pooled := sessions != ""
	c, err := parse(dsn, "-dsn, VARNET_DSN")
	if err != nil {
		return nil, err
	}
	if pooled {
		// Statements are not kept in a session, and settings are not begun with.
		c.ConnConfig.DefaultQueryExecMode = pgx.QueryExecModeCacheDescribe
	}
	s = &Store{verdicts: newVerdictCache(), latestCache: &latestCache{}, activities: &activityCache{}, now: time.Now, giveWay: func(context.Context) {}}
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	for _, one := range []struct {
		pool **pgxpool.Pool
		use
	}{{&s.pool, forJobs}, {&s.requests, forRequests}, {&s.bulk, forBulk}} {
		if *one.pool, err = one.open(ctx, c, pooled); err != nil {
			return s, err
		}
	}
	s.db, s.sessions = door{s.pool}, s.pool
	if pooled {
		own, err := parse(sessions, "-session-dsn, VARNET_SESSION_DSN")
		if err == nil {
			s.sessions, err = forSessions.open(ctx, own, false)
		}
		if err == nil {
			err = reach(ctx, s.sessions, "-session-dsn (VARNET_SESSION_DSN)")
		}
		if err != nil {
			return s, err
		}
	}
	return s, reach(ctx, s.pool, "-dsn (VARNET_DSN)")
}

// parse reads the address of a database, which a setting names.
func parse(dsn, setting string) (*pgxpool.Config, error) {
	c, err := pgxpool.ParseConfig(dsn)
	if err != nil {
		return nil, fmt.Errorf("the database address (%s) is not understood: %w", setting, err)
	}
	if c.ConnConfig.Config.ConnectTimeout == 0 {
		c.ConnConfig.Config.ConnectTimeout = 5 * time.Second
	}
	c.AfterConnect = prepare
	return c, nil
}

// reach reports why a database cannot be reached.
func reach(ctx context.Context, pool *pgxpool.Pool, setting string) error {
	err := pool.Ping(ctx)
	if err == nil || Restarting(err) {
		return err
	}
	c := pool.Config().ConnConfig
	return &Unreachable{fmt.Sprintf("PostgreSQL at %s:%d cannot be reached; is it running, and is %s right? (%s)", c.Host, c.Port, setting, firstLine(err))}
}

// Unreachable tells that a database cannot be reached, and what to look at.
type Unreachable struct{ says string }

func (u *Unreachable) Error() string { return u.says }

// StampBy has results stamped by a clock other than the machine's, for days that pass in a test.
func (s *Store) StampBy(now func() time.Time) { s.now = now }

// GiveWayBy has bulk give way to what somebody waits for.
func (s *Store) GiveWayBy(giveWay func(context.Context)) { s.giveWay = giveWay }

// use is what connections are for: how many there are, and their settings. A transaction in
// which nothing happens is given up, and so is a statement of a request that takes too long.
// Statements are not compiled (jit): one that seems expensive mostly finds little, and compiling it takes
// longer than running it.
type use struct {
	connections int32
	settings    map[string]string
}

var (
	forJobs     = use{24, map[string]string{"jit": "off", "idle_in_transaction_session_timeout": "60s"}}
	forRequests = use{20, map[string]string{"jit": "off", "idle_in_transaction_session_timeout": "10s", "statement_timeout": "60s"}}
	forBulk     = use{8, map[string]string{"jit": "off", "idle_in_transaction_session_timeout": "60s"}}
	forSessions = use{6, nil} // these may lead to a pooler, too
)

// open makes a pool of connections; by a pooler, without settings.
func (u use) open(ctx context.Context, c *pgxpool.Config, pooled bool) (*pgxpool.Pool, error) {
	own := c.Copy()
	own.MaxConns = max(c.MaxConns, u.connections)
	for name, value := range u.settings {
		if !pooled {
			own.ConnConfig.RuntimeParams[name] = value
		}
	}
	return pgxpool.NewWithConfig(ctx, own)
}

// Requests returns the store as requests use it, on connections of their own; Bulk the one
// for imports, whose statements take as long as their files.
func (s *Store) Requests() *Store { return s.on(s.requests) }
func (s *Store) Bulk() *Store     { return s.on(s.bulk) }

func (s *Store) on(pool *pgxpool.Pool) *Store {
	other := *s
	other.pool, other.db = pool, door{pool}
	return &other
}

// prepare sets up a new connection.
func prepare(ctx context.Context, conn *pgx.Conn) error {
	keptForms(conn.TypeMap())
	return packFast(ctx, conn)
}

// keptForms has values of the core read and written as JSON in their kept forms.
func keptForms(types *pgtype.Map) {
	json := &pgtype.Type{Name: "json", OID: pgtype.JSONOID, Codec: &pgtype.JSONCodec{Marshal: marshal, Unmarshal: pack.Unmarshal}}
	jsonb := &pgtype.Type{Name: "jsonb", OID: pgtype.JSONBOID, Codec: &pgtype.JSONBCodec{Marshal: marshal, Unmarshal: pack.Unmarshal}}
	types.RegisterType(json)
	types.RegisterType(jsonb)
	types.RegisterType(&pgtype.Type{Name: "_jsonb", OID: pgtype.JSONBArrayOID, Codec: &pgtype.ArrayCodec{ElementType: jsonb}})
}

// packFast has large values packed by lz4, which packs nearly as well as what
// PostgreSQL takes by itself, in a tenth of its time. A server built without it goes
// on as it does.
func packFast(ctx context.Context, conn *pgx.Conn) error {
	_, err := conn.Exec(ctx, "SET default_toast_compression = 'lz4'")
	if told := new(pgconn.PgError); errors.As(err, &told) && !Restarting(err) {
		return nil
	}
	return err
}

// Restarting tells an error of a server that is about to stop or to start: it
// is worth waiting for.
func Restarting(err error) bool {
	var told *pgconn.PgError
	return errors.As(err, &told) && strings.HasPrefix(told.Code, "57P0")
}

// Full tells an error of a database whose disk is full.
func Full(err error) bool {
	var told *pgconn.PgError
	return errors.As(err, &told) && told.Code == "53100" // disk_full
}

// Away tells an error of a connection that broke off, or was not to be had: what was going on
// did not happen.
func Away(err error) bool {
	var told *pgconn.PgError
	if errors.As(err, &told) {
		// Too many connections; a replica that gave way to its server.
		return Restarting(err) || strings.HasPrefix(told.Code, "08") || told.Code == "53300" || told.Code == "40001"
	}
	var connecting *pgconn.ConnectError
	var network *net.OpError
	return errors.As(err, &connecting) || errors.As(err, &network) || errors.Is(err, io.ErrUnexpectedEOF)
}

// firstLine keeps the DSN, which may hold a password, out of messages.
func firstLine(err error) string {
	s := err.Error()
	if i := strings.LastIndex(s, "): "); i >= 0 {
		s = s[i+3:]
	}
	s, _, _ = strings.Cut(s, "\n")
	return strings.TrimSpace(s)
}

// Close returns all connections back.
func (s *Store) Close() {
	for _, p := range []*pgxpool.Pool{s.pool, s.requests, s.bulk, s.sessions} {
		if p != nil {
			p.Close()
		}
	}
	if s.replica != nil {
		s.replica.pool.Close()
	}
}

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.pool.Ping(ctx) }

// Pool returns the pool to the job engine, and SessionPool the one by which it listens.
func (s *Store) Pool() *pgxpool.Pool        { return s.pool }
func (s *Store) SessionPool() *pgxpool.Pool { return s.sessions }

// InTx calls do with a store bound to one transaction, and the transaction
// itself for jobs to be inserted in.
func (s *Store) InTx(ctx context.Context, do func(*Store, pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, s.db, func(tx pgx.Tx) error {
		within := *s
		within.db = door{tx}
		return do(&within, tx)
	})
}

// one reads a single record; none is ErrNotFound.
func one[T any](ctx context.Context, db querier, sql string, args ...any) (T, error) {
	rows, err := db.Query(ctx, sql, args...)
	if err != nil {
		var zero T
		return zero, err
	}
	v, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[T])
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
}

// question is a statement with how its answer is read.
type question struct {
	sql  string
	args []any
	read func(pgx.Rows) error
}

// ask asks some questions in one round trip, and in one transaction.
func (s *Store) ask(ctx context.Context, all ...question) error {
	b := &pgx.Batch{}
	for _, q := range all {
		b.Queue(q.sql, q.args...).Query(q.read)
	}
	return s.db.SendBatch(ctx, b).Close()
}

// records asks for records, which are added to those in into.
func records[T any](into *[]T, sql string, args ...any) question {
	return question{sql, args, func(rows pgx.Rows) (err error) {
		*into, err = pgx.AppendRows(*into, rows, pgx.RowToStructByName[T])
		return err
	}}
}

// row asks for the values of one row; into stays as it is where there is none.
func row(into []any, sql string, args ...any) question {
	return question{sql, args, func(rows pgx.Rows) error {
		_, err := pgx.ForEachRow(rows, into, func() error { return nil })
		return err
	}}
}

// change asks for a change.
func change(sql string, args ...any) question {
	return question{sql, args, func(rows pgx.Rows) error { rows.Close(); return rows.Err() }}
}

// noDisk has the transaction commit without waiting for the disk: if the server crashes it may be lost, whole, where
// it ended in the last half second.
var noDisk = change("SELECT set_config('synchronous_commit', 'off', true)")

// column reads the values of one column.
func column[T any](ctx context.Context, db querier, sql string, args ...any) ([]T, error) {
	rows, err := db.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[T])
}

// many reads records.
func many[T any](ctx context.Context, db querier, sql string, args ...any) ([]T, error) {
	rows, err := db.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[T])
}

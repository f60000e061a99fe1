package store

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

const (
	// behind is how long a read waits for a replica to be up to date before it goes to the server itself.
	behind = 500 * time.Millisecond
	// replicaRest is how long a replica that cannot be reached, or is not up to date, is left alone.
	replicaRest = 5 * time.Second
)

// replica is a hot standby of the database, which serves large reads.
type replica struct {
	pool *pgxpool.Pool
	// told is called with the reason when reads begin to go to the server instead, and with nil when the replica serves again.
	told func(error)
	// served counts the reads from the replica, and past those that went to the server instead.
	served, past atomic.Int64

	mu      sync.Mutex
	same    bool // it was found to be a standby of this database
	failing bool
	rest    time.Time // until when it is left alone
}

// ReadFrom serves large reads from a replica of the database. While it cannot be reached or is not up to date, the server
// itself is read: told is called with the reason, and with nil once the replica serves again. The error is that of an address
// that is not understood.
func (s *Store) ReadFrom(ctx context.Context, dsn string, told func(error)) error {
	c, err := parse(dsn, "-replica-dsn, VARNET_REPLICA_DSN")
	if err != nil {
		return err
	}
	pool, err := forRequests.open(ctx, c, false)
	if err != nil {
		return err
	}
	s.replica = &replica{pool: pool, told: told}
	return nil
}

// Reading returns the store for a large read: on the replica once it holds everything written so far, so that nobody misses
// their own changes; on the server itself where there is no replica, or it is not up to date in time. Nothing can be written
// through what it returns.
func (s *Store) Reading(ctx context.Context) *Store {
	if s.replica == nil {
		return s
	}
	if !s.replica.holds(ctx, s) {
		s.replica.past.Add(1)
		return s
	}
	s.replica.served.Add(1)
	return s.on(s.replica.pool)
}

// ReplicaReads returns how many reads the replica has served, and how many went to the server instead; ok is false where there
// is no replica.
func (s *Store) ReplicaReads() (served, past int64, ok bool) {
	if s.replica == nil {
		return 0, 0, false
	}
	return s.replica.served.Load(), s.replica.past.Load(), true
}

// identity names a database; it has the same on its server and on all standbys of that.
func identity(ctx context.Context, db querier) (name string, err error) {
	err = db.QueryRow(ctx, "SELECT system_identifier || ' ' || current_database() FROM pg_control_system()").Scan(&name)
	return name, err
}

// written returns the position in the server's write-ahead log behind everything committed so far. With synchronous_commit
// off a commit may not have reached the disk yet, so the position is that of the last record inserted.
func (s *Store) written(ctx context.Context) (position string, err error) {
	err = s.db.QueryRow(ctx, `SELECT CASE current_setting('synchronous_commit') WHEN 'off' THEN pg_current_wal_insert_lsn()
		ELSE pg_current_wal_flush_lsn() END::text`).Scan(&position)
	return position, err
}

var (
	errBehind    = errors.New("it is more than half a second behind the server")
	errNoReplica = errors.New("-replica-dsn (VARNET_REPLICA_DSN) leads to a server that is no standby of another; give that of a hot standby, or none")
	errOther     = errors.New("-replica-dsn (VARNET_REPLICA_DSN) leads to another database than -dsn; give that of its hot standby, or none")
)

// holds reports whether the replica holds everything that its server, s, has committed; it waits a moment for that.
func (r *replica) holds(ctx context.Context, s *Store) bool {
	if r.resting() {
		return false
	}
	waiting, stop := context.WithTimeout(ctx, behind)
	defer stop()
	position, err := s.written(waiting)
	if err != nil {
		return false // the read itself says what is wrong with the server
	}
	switch err := r.reach(waiting, s, position); {
	case ctx.Err() != nil:
		return false
	case waiting.Err() != nil:
		r.tell(errBehind)
		return false
	default:
		r.tell(err)
		return err == nil
	}
}

// reach waits until the replica has replayed the log of its server up to a position.
func (r *replica) reach(ctx context.Context, s *Store, position string) error {
	if err := r.check(ctx, s); err != nil {
		return err
	}
	for {
		var standby, there bool
		err := r.pool.QueryRow(ctx, "SELECT pg_is_in_recovery(), coalesce(pg_last_wal_replay_lsn() >= $1::text::pg_lsn, false)", position).Scan(&standby, &there)
		switch {
		case err != nil:
			return err
		case !standby: // or no longer: it has become a server of its own
			return errNoReplica
		case there:
			return nil
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// check returns an error unless the replica is a standby of the database of s: positions in the log of one server mean nothing
// for another.
func (r *replica) check(ctx context.Context, s *Store) error {
	r.mu.Lock()
	same := r.same
	r.mu.Unlock()
	if same {
		return nil
	}
	here, err := identity(ctx, s.db)
	if err != nil {
		return err
	}
	there, err := identity(ctx, r.pool)
	if err != nil {
		return err
	}
	if here != there {
		return errOther
	}
	r.mu.Lock()
	r.same = true
	r.mu.Unlock()
	return nil
}

func (r *replica) resting() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return time.Now().Before(r.rest)
}

// tell records whether the replica can be read from, and reports a change.
func (r *replica) tell(err error) {
	r.mu.Lock()
	changed := r.failing != (err != nil)
	if r.failing = err != nil; r.failing {
		r.rest, r.same = time.Now().Add(replicaRest), false // it may be another when it comes back
	}
	r.mu.Unlock()
	if changed {
		r.told(err)
	}
}

package store

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/store/pack"
)

// Routine is a standing order.
type Routine struct {
	ID          int64
	WorkspaceID int64
	Name        string
	Spec        pack.RoutineSpec
	PausedAt    *time.Time
	NextAt      *time.Time // nil: not by the calendar
	LookAt      *time.Time // when its source is looked at for a change; nil: never
	Tag         string     // of what was read last
	ListID      *int64     // what that became
	CreatedAt   time.Time
}

const routineColumns = "id, workspace_id, name, spec, paused_at, next_at, look_at, tag, list_id, created_at"

// NewRoutine records a routine and gives it its ID.
func (s *Store) NewRoutine(ctx context.Context, r *Routine) error {
	return s.db.QueryRow(ctx, "INSERT INTO routine (workspace_id, name, spec, next_at, look_at) VALUES ($1, $2, $3, $4, $5) RETURNING id, created_at",
		r.WorkspaceID, r.Name, r.Spec, r.NextAt, r.LookAt).Scan(&r.ID, &r.CreatedAt)
}

// Routines returns the routines of a workspace by name.
func (s *Store) Routines(ctx context.Context, workspace int64) ([]Routine, error) {
	return many[Routine](ctx, s.db, "SELECT "+routineColumns+" FROM routine WHERE workspace_id = $1 ORDER BY lower(name), id", workspace)
}

// Routine returns a routine of a workspace.
func (s *Store) Routine(ctx context.Context, workspace, id int64) (Routine, error) {
	return one[Routine](ctx, s.db, "SELECT "+routineColumns+" FROM routine WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// ChangeRoutine replaces what a routine is called and does, and when it is due. Where its source
// is another, what was read is forgotten.
func (s *Store) ChangeRoutine(ctx context.Context, r Routine) error {
	return s.changed(ctx, `UPDATE routine SET name = $3, spec = $4, paused_at = $5, next_at = $6, look_at = $7, tag = $8, list_id = $9 WHERE workspace_id = $1 AND id = $2`,
		r.WorkspaceID, r.ID, r.Name, r.Spec, r.PausedAt, r.NextAt, r.LookAt, r.Tag, r.ListID)
}

// DeleteRoutine deletes a routine with its times; its lists stay.
func (s *Store) DeleteRoutine(ctx context.Context, workspace, id int64) error {
	return s.changed(ctx, "DELETE FROM routine WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// DueRoutines locks routines that are due and that nobody else looks at: those of one workspace
// in turns with those of others.
func (s *Store) DueRoutines(ctx context.Context, now time.Time, limit int) ([]Routine, error) {
	return many[Routine](ctx, s.db, `SELECT `+routineColumns+` FROM routine WHERE id IN (
			SELECT id FROM routine WHERE paused_at IS NULL AND next_at <= $1
			ORDER BY row_number() OVER (PARTITION BY workspace_id ORDER BY next_at, id), next_at LIMIT $2)
		ORDER BY id FOR UPDATE SKIP LOCKED`, now, limit)
}

// SetRoutineDue sets when a routine is due next; nil: not by the calendar.
func (s *Store) SetRoutineDue(ctx context.Context, id int64, next *time.Time) error {
	return s.changed(ctx, "UPDATE routine SET next_at = $2 WHERE id = $1", id, next)
}

// LookRoutines returns routines whose source is to be looked at for a change now, which are put
// off until then again: those that are at work are left.
func (s *Store) LookRoutines(ctx context.Context, now time.Time, again time.Time, limit int) ([]Routine, error) {
	return many[Routine](ctx, s.db, `UPDATE routine SET look_at = $2 WHERE id IN (
			SELECT id FROM routine WHERE paused_at IS NULL AND look_at <= $1
			AND NOT EXISTS (SELECT FROM routine_time t WHERE t.routine_id = routine.id AND t.ended_at IS NULL)
			ORDER BY look_at LIMIT $3 FOR UPDATE SKIP LOCKED) RETURNING `+routineColumns, now, again, limit)
}

// RoutineRead records what was read of a routine's source, and what it became.
func (s *Store) RoutineRead(ctx context.Context, id int64, tag string, list int64) error {
	return s.changed(ctx, "UPDATE routine SET tag = $2, list_id = $3 WHERE id = $1", id, tag, list)
}

// LookAgain sets when the source of a routine is looked at again.
func (s *Store) LookAgain(ctx context.Context, id int64, at time.Time) error {
	return s.changed(ctx, "UPDATE routine SET look_at = $2 WHERE id = $1 AND look_at IS NOT NULL", id, at)
}

// The states of a time of a routine.
const (
	TimeReading   = "reading"
	TimeVerifying = "verifying"
	TimeHeld      = "held"     // waits for a person's decision
	TimeApproved  = "approved" // a person decided that it goes on
	TimeDone      = "done"
	TimeFailed    = "failed"
	TimeLeft      = "left"    // a person decided that it does not
	TimeNotRun    = "not run" // the time before was still at work
)

// RoutineTime is one of the times at which a routine was due.
type RoutineTime struct {
	ID        int64
	RoutineID int64
	Number    int
	DueAt     time.Time
	Missed    int // times before it that it stands for
	Why       string
	Dry       bool
	State     string
	ListID    *int64
	RunID     *int64
	Record    pack.RoutineRecord
	Says      string
	BegunAt   time.Time
	EndedAt   *time.Time
}

const timeColumns = "id, routine_id, number, due_at, missed, why, dry, state, list_id, run_id, record, says, begun_at, ended_at"

// ErrAtWork tells that a time of a routine is at work, and no other may begin.
var ErrAtWork = errors.New("the routine is at work")

// BeginTime records a time of a routine that begins, and gives it ID and number; ErrAtWork while
// another is at work. It belongs in the transaction that sets it going.
func (s *Store) BeginTime(ctx context.Context, t *RoutineTime) error {
	if _, err := s.db.Exec(ctx, "SELECT FROM routine WHERE id = $1 FOR UPDATE", t.RoutineID); err != nil {
		return err
	}
	err := s.db.QueryRow(ctx, `INSERT INTO routine_time (routine_id, number, due_at, missed, why, dry, state, says, ended_at)
		SELECT $1, coalesce((SELECT max(number) FROM routine_time WHERE routine_id = $1), 0) + 1, $2, $3, $4, $5, $6, $7, $8
		WHERE $8::timestamptz IS NOT NULL OR NOT EXISTS (SELECT FROM routine_time WHERE routine_id = $1 AND ended_at IS NULL)
		RETURNING id, number, begun_at`, t.RoutineID, t.DueAt, t.Missed, t.Why, t.Dry, t.State, t.Says, t.EndedAt).Scan(&t.ID, &t.Number, &t.BegunAt)
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrAtWork
	}
	return err
}

// Time returns a time of a routine with the routine, to the job that works on it.
func (s *Store) Time(ctx context.Context, id int64) (t RoutineTime, r Routine, err error) {
	if t, err = one[RoutineTime](ctx, s.db, "SELECT "+timeColumns+" FROM routine_time WHERE id = $1", id); err == nil {
		r, err = one[Routine](ctx, s.db, "SELECT "+routineColumns+" FROM routine WHERE id = $1", t.RoutineID)
	}
	return t, r, err
}

// TimeOf returns a time of a routine by its number; the newest with 0.
func (s *Store) TimeOf(ctx context.Context, routine int64, number int) (RoutineTime, error) {
	return one[RoutineTime](ctx, s.db, "SELECT "+timeColumns+" FROM routine_time WHERE routine_id = $1 AND ($2::bigint = 0 OR number = $2) ORDER BY number DESC LIMIT 1", routine, number)
}

// Times returns a page of the times of a routine, the newest first, before a number (0: from the
// newest).
func (s *Store) Times(ctx context.Context, routine int64, before, limit int) ([]RoutineTime, error) {
	return many[RoutineTime](ctx, s.db, "SELECT "+timeColumns+" FROM routine_time WHERE routine_id = $1 AND ($2::bigint = 0 OR number < $2) ORDER BY number DESC LIMIT $3", routine, before, limit)
}

// LastTimes returns the newest time of each of some routines that has one, by the routine.
func (s *Store) LastTimes(ctx context.Context, routines []int64) (map[int64]RoutineTime, error) {
	times, err := many[RoutineTime](ctx, s.db, `SELECT `+timeColumns+` FROM routine_time t WHERE routine_id = ANY ($1)
		AND number = (SELECT max(number) FROM routine_time m WHERE m.routine_id = t.routine_id)`, routines)
	out := make(map[int64]RoutineTime, len(times))
	for _, t := range times {
		out[t.RoutineID] = t
	}
	return out, err
}

// TimeBefore returns the last time of a routine before one that came to its end with a run that
// is still there.
func (s *Store) TimeBefore(ctx context.Context, t RoutineTime) (RoutineTime, error) {
	return one[RoutineTime](ctx, s.db, `SELECT `+timeColumns+` FROM routine_time
		WHERE routine_id = $1 AND number < $2 AND state = 'done' AND run_id IS NOT NULL AND NOT dry ORDER BY number DESC LIMIT 1`, t.RoutineID, t.Number)
}

// SetTime records how far a time has come.
func (s *Store) SetTime(ctx context.Context, t RoutineTime) error {
	return s.changed(ctx, "UPDATE routine_time SET state = $2, list_id = $3, run_id = $4, record = $5, says = $6, ended_at = $7 WHERE id = $1 AND ended_at IS NULL",
		t.ID, t.State, t.ListID, t.RunID, t.Record, t.Says, t.EndedAt)
}

// TimeOfRun returns the ID of the time that waits for a run, 0 where none does.
func (s *Store) TimeOfRun(ctx context.Context, run int64) (id int64, err error) {
	err = s.db.QueryRow(ctx, "SELECT id FROM routine_time WHERE run_id = $1 AND ended_at IS NULL", run).Scan(&id)
	if errors.Is(err, pgx.ErrNoRows) {
		err = nil
	}
	return id, err
}

// StandingTimes returns the times that may go on: those that wait for a run which came to its
// end, or is gone, and those that were approved.
func (s *Store) StandingTimes(ctx context.Context) ([]int64, error) {
	return column[int64](ctx, s.db, `SELECT t.id FROM routine_time t LEFT JOIN run u ON u.id = t.run_id
		WHERE t.ended_at IS NULL AND (t.state IN ('verifying', 'approved') AND (u.id IS NULL OR u.finished_at IS NOT NULL)
			AND NOT EXISTS (SELECT FROM write_back b WHERE b.id = (t.record->>'writeBackId')::bigint AND b.ended_at IS NULL)
		OR t.state = 'reading' AND EXISTS (SELECT FROM connection_import i WHERE i.id = (t.record->>'importId')::bigint AND i.ended_at IS NOT NULL))`)
}

// ArchiveTimes archives the lists of a routine's times but for the newest ones.
func (s *Store) ArchiveTimes(ctx context.Context, routine int64, keep int) error {
	_, err := s.db.Exec(ctx, `UPDATE list SET archived_at = now() WHERE archived_at IS NULL AND id IN (
		SELECT list_id FROM routine_time WHERE routine_id = $1 AND list_id IS NOT NULL AND list_id NOT IN (
			SELECT list_id FROM routine_time WHERE routine_id = $1 AND list_id IS NOT NULL ORDER BY number DESC LIMIT $2))`, routine, keep)
	return err
}

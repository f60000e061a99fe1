package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/core/say"
	"varnet/internal/connect"
	"varnet/internal/routine"
	"varnet/internal/store"
)

// CalendarArgs is the job that looks at what goes by the calendar.
type CalendarArgs struct{}

// Kind names the job.
func (CalendarArgs) Kind() string { return "calendar" }

// InsertOpts has one at a time.
func (CalendarArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{UniqueOpts: unique} }

// calendarEvery is how often that is looked at.
const calendarEvery = 5 * time.Second

type calendarWorker struct {
	river.WorkerDefaults[CalendarArgs]
	engine *Engine
}

// sideBySide is how many of its looks go on at once.
const sideBySide = 4

// Work takes all looks; none waits for one that fails. What sees what another has just begun or ended
// comes after it.
func (w *calendarWorker) Work(ctx context.Context, _ *river.Job[CalendarArgs]) error {
	e := w.engine
	after := func(steps ...func(context.Context) error) func(context.Context) error {
		return func(ctx context.Context) error { return takeAll(ctx, 1, steps...) }
	}
	return takeAll(ctx, sideBySide, e.sendDaily, after(e.beginDue, e.lookForChanges, e.goOnStanding), e.goOnConnected, e.tellWaiting, e.Store.ForgetErrors, e.tellFailing, e.sendTrials,
		e.readSources, after(e.closeWatches, e.learnDue), e.Allowance.Due, after(e.deleteDue, e.sweep))
}

func calendar() *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(calendarEvery),
		func() (river.JobArgs, *river.InsertOpts) { return CalendarArgs{}, nil }, &river.PeriodicJobOpts{RunOnStart: true})
}

// dueAtOnce is how many routines are begun in one transaction.
const dueAtOnce = 100

// beginDue begins the routines that are due.
func (e *Engine) beginDue(ctx context.Context) error {
	for {
		n := 0
		err := e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
			now := e.Clock.Now()
			due, err := s.DueRoutines(ctx, now, dueAtOnce)
			if n = len(due); err != nil {
				return err
			}
			for _, r := range due {
				if err := e.beginDueOne(ctx, s, tx, r, now); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil || n < dueAtOnce {
			return err
		}
	}
}

// beginDueOne begins a routine that is due: once, however many times were missed, and not while
// the time before is still at work.
func (e *Engine) beginDueOne(ctx context.Context, s *store.Store, tx pgx.Tx, r store.Routine, now time.Time) error {
	when, _ := routine.ScheduleOf(r.Spec, r.CreatedAt)
	t := store.RoutineTime{RoutineID: r.ID, Why: "calendar", State: store.TimeReading}
	var next time.Time
	var err error
	if t.DueAt, t.Missed, next, err = when.CatchUp(*r.NextAt, now); err != nil {
		return err
	}
	if err := s.SetRoutineDue(ctx, r.ID, routine.Optional(next)); err != nil {
		return err
	}
	err = e.beginTime(ctx, s, tx, &t)
	if errors.Is(err, store.ErrAtWork) {
		return e.notRun(ctx, s, tx, r, t)
	}
	return err
}

// beginTime records a time that begins, and sets it going.
func (e *Engine) beginTime(ctx context.Context, s *store.Store, tx pgx.Tx, t *store.RoutineTime) error {
	if err := s.BeginTime(ctx, t); err != nil {
		return err
	}
	return e.insert(ctx, tx, RoutineArgs{Time: t.ID})
}

// notRun records that a routine was due while it was at work.
func (e *Engine) notRun(ctx context.Context, s *store.Store, tx pgx.Tx, r store.Routine, t store.RoutineTime) error {
	now := time.Now()
	t.State, t.EndedAt, t.Says = store.TimeNotRun, &now, fmt.Sprintf("It was due on %s, and the time before was still at work.", t.DueAt.UTC().Format("2 January 2006, 15:04 MST"))
	if err := s.BeginTime(ctx, &t); err != nil {
		return err
	}
	return e.Happened(ctx, s, tx, event.Event{Code: event.RoutineNotRun, Workspace: r.WorkspaceID, Says: t.Says, Data: event.Data{RoutineID: r.ID, Routine: r.Name, Words: t.Says}})
}

// RunRoutine begins a time of a routine that a person asked for; dry: nobody is asked, and nothing
// written.
func (e *Engine) RunRoutine(ctx context.Context, r store.Routine, dry bool) (t store.RoutineTime, err error) {
	t = store.RoutineTime{RoutineID: r.ID, DueAt: e.Clock.Now(), Why: "person", Dry: dry, State: store.TimeReading}
	err = e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error { return e.beginTime(ctx, s, tx, &t) })
	return t, err
}

// DecideTime has a time that is held go on, or end.
func (e *Engine) DecideTime(ctx context.Context, r store.Routine, t store.RoutineTime, goOn bool, by string) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if goOn {
			t.State = store.TimeApproved
			if err := s.SetTime(ctx, t); err != nil {
				return err
			}
			return e.insert(ctx, tx, RoutineArgs{Time: t.ID})
		}
		now := time.Now()
		t.State, t.EndedAt, t.Says = store.TimeLeft, &now, by+" decided that it does not go on. "+t.Says
		return s.SetTime(ctx, t)
	})
}

// How often sources are looked at for a change, and how many at a time.
const (
	lookFolder  = 15 * time.Second
	lookURL     = 5 * time.Minute
	looksAtOnce = 200
)

// lookEvery is how often a source is looked at for a change.
func lookEvery(source string) time.Duration {
	if source == routine.FromURL {
		return lookURL
	}
	return lookFolder
}

// RoutineLookArgs names a routine whose source is to be looked at for a change.
type RoutineLookArgs struct {
	Workspace, Routine int64
}

// Kind names the job.
func (RoutineLookArgs) Kind() string { return "routine-look" }

// InsertOpts has one look at a time.
func (RoutineLookArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueRoutine, UniqueOpts: unique}
}

// lookForChanges has the sources looked at whose time has come.
func (e *Engine) lookForChanges(ctx context.Context) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		now := time.Now()
		found, err := s.LookRoutines(ctx, now, now.Add(lookFolder), looksAtOnce)
		if err != nil {
			return err
		}
		for _, r := range found {
			if err := e.insert(ctx, tx, RoutineLookArgs{r.WorkspaceID, r.ID}); err != nil {
				return err
			}
		}
		return nil
	})
}

type routineLookWorker struct {
	river.WorkerDefaults[RoutineLookArgs]
	engine *Engine
}

// Work begins a time where the source has changed. What cannot be looked at is not told each
// time: the next time that is due says so.
func (w *routineLookWorker) Work(ctx context.Context, job *river.Job[RoutineLookArgs]) error {
	e := w.engine
	r, err := e.Store.Routine(ctx, job.Args.Workspace, job.Args.Routine)
	if err != nil || r.PausedAt != nil || r.LookAt == nil {
		return notThere(err)
	}
	changed, err := e.sourceChanged(ctx, r)
	var trouble *connect.Trouble
	if errors.As(err, &trouble) {
		e.Log.Debug("the source of a routine cannot be looked at", "routine", r.ID, "err", err)
		err = nil
	}
	if err != nil {
		return err
	}
	at := time.Now().Add(lookEvery(r.Spec.Source))
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.LookAgain(ctx, r.ID, at); err != nil || !changed {
			return notThere(err)
		}
		err := e.beginTime(ctx, s, tx, &store.RoutineTime{RoutineID: r.ID, DueAt: e.Clock.Now(), Why: "change", State: store.TimeReading})
		if errors.Is(err, store.ErrAtWork) {
			return nil // which reads the newest anyway, or the next look tells
		}
		return err
	})
}

// sourceChanged reports whether the source of a routine is another than what was read.
func (e *Engine) sourceChanged(ctx context.Context, r store.Routine) (bool, error) {
	if r.Spec.Source == routine.FromList {
		l, err := e.Store.NewestImport(ctx, r.WorkspaceID, r.Spec.ListID)
		return err == nil && (r.ListID == nil || *r.ListID != l.ID), notThere(err)
	}
	src, err := e.Routines.Open(ctx, r.WorkspaceID, r.Spec, r.Tag)
	if err != nil || src.Unchanged {
		return false, err
	}
	return true, src.Body.Close()
}

// goOnStanding has times go on that nobody else set going: their run came to its end otherwise
// than by its last parcel, or while the job before was not quite over.
func (e *Engine) goOnStanding(ctx context.Context) error {
	times, err := e.Store.StandingTimes(ctx)
	if err != nil || len(times) == 0 {
		return err
	}
	return e.Store.InTx(ctx, func(_ *store.Store, tx pgx.Tx) error {
		for _, id := range times {
			if err := e.insert(ctx, tx, RoutineArgs{Time: id}); err != nil {
				return err
			}
		}
		return nil
	})
}

// waitsLong is how long all that is left of a run must wait for it to be told.
const waitsLong = 2 * time.Minute

// tellWaiting tells of runs of which all that is left waits for a later round, once a run.
func (e *Engine) tellWaiting(ctx context.Context) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		runs, err := s.WaitingRuns(ctx, event.RunWaiting, waitsLong)
		if err != nil {
			return err
		}
		for _, r := range runs {
			d := event.Data{RunID: r.ID, ListID: r.ListID, List: r.ListName, Until: &r.Until}
			if err := e.Happened(ctx, s, tx, event.Event{Code: event.RunWaiting, Workspace: r.WorkspaceID, Data: d,
				Says: fmt.Sprintf("%s left, and all of them wait: their hosts asked us to come back later. The next ones are asked at %s.", say.Plural(r.Addresses, "address is", "addresses are"), r.Until.UTC().Format("15:04 MST"))}); err != nil {
				return err
			}
		}
		return nil
	})
}

// deleteDue deletes the workspaces whose time has come.
func (e *Engine) deleteDue(ctx context.Context) error {
	due, err := e.Store.DueDeletions(ctx, e.Clock.Now())
	for _, id := range due {
		if err == nil {
			err = e.Store.DeleteWorkspace(ctx, id)
		}
		if errors.Is(err, store.ErrNotFound) { // another process was quicker
			err = nil
		}
	}
	return err
}

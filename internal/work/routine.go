package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/allowance"
	"varnet/internal/connect"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/export"
	"varnet/internal/intake"
	"varnet/internal/routine"
	"varnet/internal/store"
	"varnet/internal/store/pack"
	"varnet/internal/workshop"
)

// RoutineArgs names a time of a routine that goes on.
type RoutineArgs struct {
	Time int64 `json:"time"`
}

// Kind names the job.
func (RoutineArgs) Kind() string { return "routine" }

// InsertOpts makes it one job a time.
func (RoutineArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueRoutine, UniqueOpts: unique}
}

const (
	queueRoutine = "routine"
	routines     = 16               // how many times of routines read, weigh or write at once
	routinesEach = 2                // of one workspace, so that slow sources of one hold up none of another
	starting     = 2                // how many of them start their runs at once, beside what people do
	notYet       = 3 * time.Second  // until one is tried again that has to wait for others of its workspace
	routineTime  = 30 * time.Minute // for a step, which may import or write a large file
	timesListed  = 2                // lists of the last times that are not archived
)

type routineWorker struct {
	river.WorkerDefaults[RoutineArgs]
	engine *Engine
}

// Timeout leaves a step the time that it takes.
func (w *routineWorker) Timeout(*river.Job[RoutineArgs]) time.Duration { return routineTime }

// Work takes a time on by its next steps. Each is recorded before the next, and may be begun
// again: a file is imported once, a run started once, and a result that is written twice is the
// same.
func (w *routineWorker) Work(ctx context.Context, job *river.Job[RoutineArgs]) error {
	t, r, err := w.engine.Store.Time(ctx, job.Args.Time)
	if err != nil || t.EndedAt != nil {
		return notThere(err)
	}
	leave, ok := w.engine.routinesAt.enter(r.WorkspaceID, routinesEach)
	if !ok {
		return river.JobSnooze(notYet)
	}
	defer leave()
	o := order{engine: w.engine, t: t, r: r}
	err = o.steps(ctx)
	var trouble *connect.Trouble
	var inFile *sheet.Error
	var full *intake.TooManyRows
	var steps *workshop.Wrong
	switch {
	case errors.Is(err, store.ErrNotFound):
		return o.fail(ctx, "Its list, its run or the routine was deleted meanwhile.")
	case errors.As(err, &trouble), errors.As(err, &inFile), errors.As(err, &full), errors.As(err, &steps):
		return o.fail(ctx, err.Error())
	}
	return err
}

// places counts what goes on for each workspace.
type places struct {
	mu    sync.Mutex
	taken map[int64]int
}

// enter takes one of the places of a workspace, if one is free, until leave is called.
func (p *places) enter(workspace int64, each int) (leave func(), ok bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.taken[workspace] >= each {
		return nil, false
	}
	if p.taken == nil {
		p.taken = map[int64]int{}
	}
	p.taken[workspace]++
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.taken[workspace]--; p.taken[workspace] == 0 {
			delete(p.taken, workspace)
		}
	}, true
}

// order is a time of a routine at work.
type order struct {
	engine *Engine
	t      store.RoutineTime
	r      store.Routine
}

func (o *order) steps(ctx context.Context) error {
	if o.t.State == store.TimeReading {
		if err := o.read(ctx); err != nil || o.t.EndedAt != nil || o.t.State == store.TimeReading {
			return err
		}
	}
	switch {
	case o.t.State == store.TimeHeld:
		return nil
	case o.t.ListID == nil:
		return store.ErrNotFound
	case o.t.RunID == nil:
		return o.verify(ctx)
	}
	run, err := o.engine.Store.Run(ctx, o.r.WorkspaceID, *o.t.RunID)
	switch {
	case err != nil || run.FinishedAt == nil:
		return err
	case run.State == store.Stopped:
		return &connect.Trouble{Why: "Its run was stopped before its end; nothing was written."}
	}
	return o.conclude(ctx, run)
}

// read reads the source. What it is that was read before, is the list that it became then.
func (o *order) read(ctx context.Context) error {
	e, r := o.engine, o.r
	if r.Spec.Source == routine.FromConnection {
		if waits, err := o.collect(ctx); err != nil || waits {
			return err
		}
	}
	l, tag, err := o.list(ctx)
	if err != nil {
		return err
	}
	source := l
	if r.Spec.RecipeID > 0 {
		if l, err = o.follow(ctx, source); err != nil {
			return err
		}
		o.t.Record.SourceID = source.ID
	}
	o.t.ListID, o.t.State = &l.ID, store.TimeVerifying
	o.t.Record.Rows, o.t.Record.Addresses = l.Rows, l.Addresses
	if o.t.Dry {
		return o.dry(ctx, source, l)
	}
	return e.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if err := s.RoutineRead(ctx, r.ID, tag, source.ID); err != nil {
			return err
		}
		return s.SetTime(ctx, o.t)
	})
}

// list returns the list that the source is, which is imported if it is new.
func (o *order) list(ctx context.Context) (l store.List, tag string, err error) {
	e, r := o.engine, o.r
	if r.Spec.Source == routine.FromList {
		l, err = e.Store.NewestImport(ctx, r.WorkspaceID, r.Spec.ListID)
		o.t.Record.File, o.t.Record.Unchanged = l.FileName, r.ListID != nil && *r.ListID == l.ID
		return l, "", err
	}
	if r.Spec.Source == routine.FromConnection {
		i, err := e.Store.Import(ctx, r.WorkspaceID, o.t.Record.ImportID)
		if err != nil {
			return l, "", err
		}
		if i.ListID == nil {
			return l, "", &connect.Trouble{Why: i.Says}
		}
		o.t.Record.File = i.CollectionName
		l, err = e.Store.List(ctx, r.WorkspaceID, *i.ListID)
		return l, "", err
	}
	known := r.Tag
	if r.ListID == nil { // it was deleted
		known = ""
	}
	src, err := e.Routines.Open(ctx, r.WorkspaceID, r.Spec, known)
	if err != nil {
		return l, "", err
	}
	o.t.Record.File, o.t.Record.Unchanged = src.Name, src.Unchanged
	if src.Unchanged {
		l, err = e.Store.List(ctx, r.WorkspaceID, *r.ListID)
		return l, src.Tag, err
	}
	defer src.Body.Close()
	f := intake.File{Workspace: r.WorkspaceID, Name: r.Name, FileName: src.Name, Key: fmt.Sprintf("routine %d, time %d", r.ID, o.t.Number), Quiet: true}
	l, err = o.importOnce(ctx, f, src.Body)
	return l, src.Tag, err
}

// follow makes the list that is verified of the one that the source is, by the steps of the
// routine's recipe. It stands for that of the time before.
func (o *order) follow(ctx context.Context, source store.List) (l store.List, err error) {
	e, r := o.engine, o.r
	recipe, err := e.Store.StepRecipe(ctx, r.WorkspaceID, r.Spec.RecipeID)
	if errors.Is(err, store.ErrNotFound) {
		return l, &connect.Trouble{Why: fmt.Sprintf("The recipe of steps “%s” was deleted; choose another, or none.", r.Spec.RecipeName)}
	}
	if err != nil {
		return l, err
	}
	made := workshop.Order{Workspace: r.WorkspaceID, List: source, Recipe: recipe.Recipe, Name: r.Name, Quiet: true}
	if made.Earlier, err = o.listBefore(ctx); err != nil {
		return l, err
	}
	m, err := e.Workshop.Begin(ctx, made)
	if err != nil {
		return l, err
	}
	defer m.Close()
	lists, err := m.Import(ctx, fmt.Sprintf("routine %d, time %d, steps", r.ID, o.t.Number))
	if err != nil {
		return l, err
	}
	report, err := m.Report()
	o.t.Record.Made = m.Says(report)
	return lists[0], err
}

// listBefore is the list of the time before; nil where there is none.
func (o *order) listBefore(ctx context.Context) (*store.List, error) {
	before, err := o.engine.Store.TimeBefore(ctx, o.t)
	if err == nil && before.ListID != nil {
		l, err := o.engine.Store.List(ctx, o.r.WorkspaceID, *before.ListID)
		if err == nil {
			return &l, nil
		}
	}
	if errors.Is(err, store.ErrNotFound) {
		err = nil
	}
	return nil, err
}

// collect has the collection of the connection imported; it reports whether that goes on.
func (o *order) collect(ctx context.Context) (waits bool, err error) {
	e, r := o.engine, o.r
	if o.t.Record.ImportID > 0 {
		i, err := e.Store.Import(ctx, r.WorkspaceID, o.t.Record.ImportID)
		return err == nil && i.EndedAt == nil, err
	}
	kept, err := e.Store.Connection(ctx, r.WorkspaceID, r.Spec.ConnectionID)
	if err != nil {
		return false, err
	}
	place, err := e.Connections.Open(kept)
	if err != nil {
		return false, err
	}
	defer place.Close()
	i := store.Import{WorkspaceID: r.WorkspaceID, ConnectionID: kept.ID, Collection: r.Spec.Collection, ListName: r.Name, Quiet: true}
	if err := e.ChooseCollection(ctx, place, &i); err != nil {
		return false, errors.Join(err, e.NoteBroken(ctx, kept, err))
	}
	i.EarlierID = r.ListID // its own lists follow each other, whoever imports the collection besides
	return true, e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := e.collect(ctx, s, tx, &i); err != nil {
			return err
		}
		o.t.Record.ImportID = i.ID
		return s.SetTime(ctx, o.t)
	})
}

// writeBack has the result written back to the connection; it reports whether that goes on.
func (o *order) writeBack(ctx context.Context, run store.Run) (waits bool, err error) {
	e, r := o.engine, o.r
	if o.t.Record.WriteBackID == 0 {
		b := store.WriteBack{WorkspaceID: r.WorkspaceID, RunID: run.ID, ConnectionID: r.Spec.ConnectionID, Collection: r.Spec.Collection, Spec: pack.WriteBackSpec{Steps: r.Spec.ThenSteps},
			Quiet: true, ByWhom: "The routine “" + r.Name + "”"}
		return true, e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
			if err := e.writeBack(ctx, s, tx, &b); err != nil {
				return err
			}
			o.t.Record.WriteBackID = b.ID
			return s.SetTime(ctx, o.t)
		})
	}
	b, err := e.Store.WriteBack(ctx, r.WorkspaceID, o.t.Record.WriteBackID)
	switch {
	case err != nil || b.EndedAt == nil:
		return err == nil, err
	case b.State == store.WriteFailed:
		return false, &connect.Trouble{Why: "The write-back failed: " + b.Says}
	}
	o.t.Record.Written = b.Says
	return false, nil
}

// importOnce imports a file, unless an attempt before did.
func (o *order) importOnce(ctx context.Context, f intake.File, body io.Reader) (store.List, error) {
	e, r := o.engine, o.r
	if l, err := e.Store.ListByKey(ctx, r.WorkspaceID, f.Key); !errors.Is(err, store.ErrNotFound) {
		return l, err
	}
	if r.ListID == nil {
		return e.Importer.Import(ctx, f, body)
	}
	before, err := e.Store.List(ctx, r.WorkspaceID, *r.ListID)
	if err != nil {
		return before, err
	}
	return e.Importer.ImportNewer(ctx, intake.Newer{File: f, List: before, Mode: intake.Replace}, body)
}

// run is the run that a time makes of its list.
func (o *order) run(ctx context.Context) (run store.Run, err error) {
	s := o.r.Spec
	run = store.Run{WorkspaceID: o.r.WorkspaceID, ListID: *o.t.ListID, Depth: store.DepthMailbox, Ages: map[finding.Finding]int{}}
	run.Hours, run.Zone = s.Hours, s.Zone
	for f, days := range s.Ages {
		run.Ages[finding.Finding(f)] = days
		run.ReuseDays = max(run.ReuseDays, days)
	}
	if run.Policy, err = policy.Named(s.Policy); err != nil {
		run.Policy, err = o.engine.Store.Policy(ctx, o.r.WorkspaceID, s.Policy, 0)
	}
	if errors.Is(err, store.ErrNotFound) {
		err = &connect.Trouble{Why: fmt.Sprintf("There is no policy named %q any more; choose another.", s.Policy)}
	}
	return run, err
}

// verify starts the run, unless a person has to decide first.
func (o *order) verify(ctx context.Context) error {
	e := o.engine
	run, err := o.run(ctx)
	if err != nil {
		return err
	}
	if o.t.State != store.TimeApproved && o.r.Spec.MostChecks > 0 {
		l, err := e.Store.List(ctx, o.r.WorkspaceID, run.ListID)
		if err != nil {
			return err
		}
		d, err := e.Draft(ctx, l, run)
		if err != nil {
			return err
		}
		if why := routine.TooMuch(o.r.Spec, d.Ask); why != "" {
			return o.hold(ctx, why)
		}
	}
	select {
	case e.starting <- struct{}{}:
		defer func() { <-e.starting }()
	case <-ctx.Done():
		return ctx.Err()
	}
	until, err := e.firstTimes(&run)
	if err != nil {
		return &connect.Trouble{Why: err.Error()}
	}
	pays, err := e.orderOf(ctx, run, store.By{RoutineID: &o.r.ID})
	if err != nil {
		return err
	}
	err = e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := e.startRun(ctx, s, tx, &run, until, pays); err != nil {
			return err
		}
		o.t.RunID, o.t.State = &run.ID, store.TimeVerifying
		return s.SetTime(ctx, o.t)
	})
	if why, hinders := allowance.Hinders(err); hinders {
		o.t.RunID = nil
		return o.hold(ctx, why)
	}
	return err
}

// conclude weighs what the run found, writes the result and ends the time.
func (o *order) conclude(ctx context.Context, run store.Run) error {
	e := o.engine
	if o.t.Record.WriteBackID > 0 {
		if waits, err := o.writeBack(ctx, run); err != nil || waits {
			return err
		}
	}
	l, err := e.Store.List(ctx, run.WorkspaceID, run.ListID)
	if err != nil {
		return err
	}
	d, err := decide.New(ctx, e.Store, run, l, run.Policy)
	if err != nil {
		return err
	}
	x, err := export.New(ctx, e.Store, d, contract.ExportChoice{Decision: string(policy.Keep), Form: "rows", Format: "original"})
	if err != nil {
		return err
	}
	first, err := o.weigh(ctx, run, x)
	if err != nil {
		return err
	}
	if why := routine.TooMany(o.r.Spec, o.t.Record); why != "" && o.t.State != store.TimeApproved && o.t.Record.WriteBackID == 0 {
		return o.hold(ctx, why)
	}
	if o.r.Spec.Then == routine.ToConnection {
		if waits, err := o.writeBack(ctx, run); err != nil || waits {
			return err
		}
	} else if err := o.write(ctx, x); err != nil {
		return err
	}
	return o.done(ctx, l, run, first)
}

// weigh fills in the record.
func (o *order) weigh(ctx context.Context, run store.Run, x *export.Export) (first bool, err error) {
	e, rec := o.engine, &o.t.Record
	tally, err := x.Tally(ctx, &e.Outbox.Summaries.Counted)
	if err != nil {
		return false, err
	}
	rec.Kept, rec.Reused, rec.Asked = tally.Rows(policy.Keep), run.Plan.Reused, max(0, rec.Addresses-run.Plan.Reused)
	_, age, err := e.Store.Ages(ctx, run.ID, e.Clock.Now(), nil)
	if err != nil {
		return false, err
	}
	rec.AgeDays = age.Hours() / 24
	before, err := e.Store.TimeBefore(ctx, o.t)
	if errors.Is(err, store.ErrNotFound) {
		rec.Added = rec.Addresses
		return true, nil
	}
	if err != nil {
		return false, err
	}
	earlier, err := e.Store.Run(ctx, run.WorkspaceID, *before.RunID)
	if err != nil {
		return false, err
	}
	moved, err := e.Store.Moves(ctx, earlier, run)
	if err != nil {
		return false, err
	}
	verdicts, err := e.Store.Verdicts(ctx)
	if err != nil {
		return false, err
	}
	rec.Before, rec.KeptBefore = earlier.ID, before.Record.Kept
	routine.Weigh(rec, moved, verdicts, run.Policy)
	return false, nil
}

// write writes the kept rows to where they go.
func (o *order) write(ctx context.Context, x *export.Export) (err error) {
	s := o.r.Spec
	if s.Then == routine.ToNothing {
		return nil
	}
	zone, err := time.LoadLocation(s.Zone)
	if err != nil {
		zone = time.UTC
	}
	name := routine.Name(s.ThenFile, o.t.Record.File, path.Ext(x.FileName()), o.engine.Clock.Now().In(zone))
	o.t.Record.Written, err = o.engine.Routines.Write(ctx, o.r.WorkspaceID, s, name, x.Kind(), func(out io.Writer) error {
		return x.Write(ctx, &o.engine.Outbox.Summaries.Counted, out)
	})
	return err
}

// done ends the time, and tells those who want to know.
func (o *order) done(ctx context.Context, l store.List, run store.Run, first bool) error {
	e, now := o.engine, time.Now()
	o.t.State, o.t.EndedAt, o.t.Says = store.TimeDone, &now, routine.Sentence(o.t.Record, first)
	if o.t.Missed > 0 {
		o.t.Says += fmt.Sprintf(" It makes up for %s.", say.Plural(int64(o.t.Missed), "missed time", "missed times"))
	}
	d := event.Data{RoutineID: o.r.ID, Routine: o.r.Name, ListID: l.ID, List: l.Name, RunID: run.ID}
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.SetTime(ctx, o.t); err != nil {
			return err
		}
		if err := s.ArchiveTimes(ctx, o.r.ID, timesListed); err != nil {
			return err
		}
		worth := routine.Worth(o.r.Spec, o.t.Record, first)
		if o.t.Record.Written != "" && o.t.Record.WriteBackID == 0 {
			if err := e.Happened(ctx, s, tx, event.Event{Code: event.ExportReady, Workspace: o.r.WorkspaceID, Says: o.t.Says, Quiet: worth,
				Data: event.Data{RoutineID: o.r.ID, Routine: o.r.Name, File: o.t.Record.Written}}); err != nil {
				return err
			}
		}
		if !worth {
			return nil
		}
		return e.Happened(ctx, s, tx, event.Event{Code: event.RoutineDone, Workspace: o.r.WorkspaceID, Says: o.t.Says, Data: d})
	})
}

// hold has the time wait for a person's decision.
func (o *order) hold(ctx context.Context, why string) error {
	o.t.State, o.t.Says = store.TimeHeld, why
	return o.tell(ctx, event.RoutineHeld)
}

// fail ends the time without a result.
func (o *order) fail(ctx context.Context, why string) error {
	now := time.Now()
	o.t.State, o.t.EndedAt, o.t.Says = store.TimeFailed, &now, why
	return notThere(o.tell(ctx, event.RoutineFailed))
}

// tell records where the time stands, and tells of it.
func (o *order) tell(ctx context.Context, code event.Code) error {
	return o.engine.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.SetTime(ctx, o.t); err != nil {
			return err
		}
		return o.engine.Happened(ctx, s, tx, event.Event{Code: code, Workspace: o.r.WorkspaceID, Says: o.t.Says,
			Data: event.Data{RoutineID: o.r.ID, Routine: o.r.Name, Words: o.t.Says}})
	})
}

// dry says what a time would do with the list that steps made of its source, and leaves nothing
// behind.
func (o *order) dry(ctx context.Context, source, l store.List) error {
	e, now := o.engine, time.Now()
	run, err := o.run(ctx)
	if err != nil {
		return err
	}
	d, err := e.Draft(ctx, l, run)
	if err != nil {
		return err
	}
	rec := &o.t.Record
	rec.Reused, rec.Asked = d.Reused, d.Ask
	if before, err := e.Store.TimeBefore(ctx, o.t); err == nil {
		both, err := e.Store.Both(ctx, *before.ListID, l.ID)
		if err != nil {
			return err
		}
		rec.Added, rec.Gone = l.Addresses-both, before.Record.Addresses-both
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	o.t.State, o.t.EndedAt, o.t.Says = store.TimeDone, &now, routine.DrySentence(*rec, o.r.Spec)
	return e.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if l.ID != source.ID {
			o.t.ListID = nil
			if err := s.DeleteList(ctx, l.WorkspaceID, l.ID); err != nil {
				return err
			}
		}
		if !rec.Unchanged && o.r.Spec.Source != routine.FromList {
			o.t.ListID = nil
			if err := s.DeleteList(ctx, l.WorkspaceID, source.ID); err != nil {
				return err
			}
		}
		return s.SetTime(ctx, o.t)
	})
}

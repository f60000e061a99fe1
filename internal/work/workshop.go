package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/sheet"
	"varnet/internal/intake"
	"varnet/internal/store"
	"varnet/internal/store/pack"
	"varnet/internal/workshop"
)

// WorkshopArgs names a job of the workshop.
type WorkshopArgs struct {
	Job int64 `json:"job"`
}

// Kind names the job.
func (WorkshopArgs) Kind() string { return "workshop" }

// InsertOpts makes it one job each.
func (WorkshopArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueWorkshop, UniqueOpts: unique}
}

const (
	queueWorkshop = "workshop"
	making        = 4 // how many lists are made at once
	makingEach    = 2 // of one workspace
	makingTime    = 30 * time.Minute
)

type workshopWorker struct {
	river.WorkerDefaults[WorkshopArgs]
	engine *Engine
}

// Timeout leaves large lists their time.
func (w *workshopWorker) Timeout(*river.Job[WorkshopArgs]) time.Duration { return makingTime }

// Work makes the lists of a job, or says what they would be. A list is made once under its key,
// however often the job is begun.
func (w *workshopWorker) Work(ctx context.Context, job *river.Job[WorkshopArgs]) error {
	e := w.engine
	j, err := e.Store.WorkshopJobAtWork(ctx, job.Args.Job)
	if err != nil || j.EndedAt != nil {
		return notThere(err)
	}
	leave, ok := e.makingAt.enter(j.WorkspaceID, makingEach)
	if !ok {
		return river.JobSnooze(notYet)
	}
	defer leave()
	err = e.makeLists(ctx, &j)
	var why *workshop.Wrong
	var inFile *sheet.Error
	var full *intake.TooManyRows
	switch {
	case errors.As(err, &why), errors.As(err, &inFile), errors.As(err, &full):
		j.State, j.Says = store.JobFailed, err.Error()
		err = e.Store.EndWorkshopJob(ctx, j)
	}
	return notThere(err)
}

// MakeLists begins a job of the workshop.
func (e *Engine) MakeLists(ctx context.Context, j *store.WorkshopJob) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.NewWorkshopJob(ctx, j); err != nil {
			return err
		}
		return e.insert(ctx, tx, WorkshopArgs{j.ID})
	})
}

func (e *Engine) makeLists(ctx context.Context, j *store.WorkshopJob) error {
	l, err := e.Store.List(ctx, j.WorkspaceID, j.ListID)
	if errors.Is(err, store.ErrNotFound) {
		return &workshop.Wrong{Why: "The list was deleted meanwhile."}
	}
	if err != nil {
		return err
	}
	m, err := e.Workshop.Begin(ctx, workshop.Order{Workspace: j.WorkspaceID, List: l, Recipe: j.Recipe, Split: j.Split, Name: j.Name,
		Progress: func(rows int64) error { return e.Store.JobRead(ctx, j.ID, rows) }})
	if err != nil {
		return err
	}
	defer m.Close()
	r, err := e.made(ctx, m, j)
	if err != nil {
		return err
	}
	j.Report, j.State, j.Read, j.Says = &r, store.JobDone, m.Read(), m.Says(r)
	return e.Store.EndWorkshopJob(ctx, *j)
}

// made makes the lists, unless it is a dry run, and returns what they are.
func (e *Engine) made(ctx context.Context, m *workshop.ListMaking, j *store.WorkshopJob) (pack.WorkshopReport, error) {
	if j.DryRun {
		return m.Look()
	}
	made, err := m.Import(ctx, fmt.Sprintf("workshop job %d", j.ID))
	if err != nil {
		return pack.WorkshopReport{}, err
	}
	for _, l := range made {
		j.ListIDs = append(j.ListIDs, l.ID)
	}
	return m.Report()
}

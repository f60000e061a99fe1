package work

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/internal/store"
)

// MailingArgs names a mailing that is to be prepared, or whose watch is over.
type MailingArgs struct {
	Mailing int64 `json:"mailing"`
}

// Kind names the job.
func (MailingArgs) Kind() string { return "mailing" }

// InsertOpts makes it one job a mailing.
func (MailingArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueRoutine, UniqueOpts: unique}
}

type mailingWorker struct {
	river.WorkerDefaults[MailingArgs]
	engine *Engine
}

// Timeout leaves a large mailing its time.
func (w *mailingWorker) Timeout(*river.Job[MailingArgs]) time.Duration { return 10 * time.Minute }

func (w *mailingWorker) Work(ctx context.Context, job *river.Job[MailingArgs]) error {
	e := w.engine
	m, err := e.Store.MailingAtWork(ctx, job.Args.Mailing)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	switch {
	case m.State == store.MailingPreparing && m.RunID != nil && m.Trial != nil:
		return e.Trials.Prepare(ctx, m)
	case m.State == store.MailingPreparing && m.RunID != nil:
		return e.Bounces.Prepare(ctx, m)
	case m.State == store.MailingWatching && !m.WatchUntil().After(e.Clock.Now()):
		return e.Bounces.Close(ctx, m)
	}
	return nil
}

// Mail records a mailing that was sent to the rows of a run with some decisions, and has it
// written down to whom.
func (e *Engine) Mail(ctx context.Context, m *store.Mailing) error {
	m.State = store.MailingPreparing
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.NewMailing(ctx, m); err != nil {
			return err
		}
		return e.insert(ctx, tx, MailingArgs{m.ID})
	})
}

// MailTo records a mailing with the letters it consists of.
func (e *Engine) MailTo(ctx context.Context, m *store.Mailing, letters []store.Mailed) error {
	m.State = store.MailingPreparing
	i := 0
	next := func() (*store.Mailed, error) {
		if i == len(letters) {
			return nil, nil
		}
		i++
		return &letters[i-1], nil
	}
	return e.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if err := s.NewMailing(ctx, m); err != nil {
			return err
		}
		return e.Bounces.Sent(ctx, s, *m, next)
	})
}

// mailingsAtOnce is how many mailings are closed at a look.
const mailingsAtOnce = 100

// TrialArgs names a mailing whose trial letters are being sent.
type TrialArgs struct {
	Mailing int64 `json:"mailing"`
}

// Kind names the job.
func (TrialArgs) Kind() string { return "trial" }

// InsertOpts makes it one job a mailing.
func (TrialArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueTrial, UniqueOpts: unique}
}

const (
	queueTrial = "trial"
	posting    = 8 // mailings that send at once
)

type trialWorker struct {
	river.WorkerDefaults[TrialArgs]
	engine *Engine
}

func (w *trialWorker) Work(ctx context.Context, job *river.Job[TrialArgs]) error {
	m, err := w.engine.Store.MailingAtWork(ctx, job.Args.Mailing)
	if err != nil || m.State != store.MailingSending {
		return notThere(err)
	}
	return w.engine.Trials.Send(ctx, m)
}

// sendTrials has the trial letters go on that may leave now.
func (e *Engine) sendTrials(ctx context.Context) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		sending, err := s.SendingTrials(ctx, mailingsAtOnce)
		for _, m := range sending {
			if err == nil {
				err = e.insert(ctx, tx, TrialArgs{m.ID})
			}
		}
		return err
	})
}

// closeWatches ends the watches that are over.
func (e *Engine) closeWatches(ctx context.Context) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		due, err := s.DueMailings(ctx, e.Clock.Now(), mailingsAtOnce)
		for _, m := range due {
			if err == nil {
				err = e.insert(ctx, tx, MailingArgs{m.ID})
			}
		}
		return err
	})
}

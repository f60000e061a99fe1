package work

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/problem"
	"varnet/internal/letter"
	"varnet/internal/store"
)

// LetterArgs is the job that sends a letter. Letters hold codes, and so are sealed.
type LetterArgs struct {
	Sealed []byte
}

// Kind names the job.
func (LetterArgs) Kind() string { return "letter" }

// posted is what is sealed. To is "" for a letter to nobody, which is not sent.
type posted struct {
	To     string
	Letter letter.Letter
}

const (
	letterPurpose  = "letter"
	queueLetter    = "letter"
	postmen        = 4                // how many letters go out at once
	letterTimeout  = time.Minute      // a submission server is waited for half as long
	letterAttempts = 6                // with the waits between them, some minutes
	letterTooOld   = 30 * time.Minute // codes are good for ten
)

// PostLetter hands a letter in with a transaction: it goes when that is committed.
func (e *Engine) PostLetter(ctx context.Context, tx pgx.Tx, to string, l letter.Letter) error {
	text, err := json.Marshal(posted{to, l})
	if err != nil {
		return err
	}
	_, err = e.client.InsertTx(ctx, tx, LetterArgs{e.Secrets.Seal(string(text), letterPurpose)}, &river.InsertOpts{Queue: queueLetter, MaxAttempts: letterAttempts})
	return err
}

// EventLetterArgs names a person and the event that a letter tells them of; or, for a daily
// letter, the events.
type EventLetterArgs struct {
	Person int64   `json:"person"`
	Seq    int64   `json:"seq,omitempty"`
	Daily  []int64 `json:"daily,omitempty"`
}

// Kind names the job.
func (EventLetterArgs) Kind() string { return "event-letter" }

// InsertOpts has it tried for about a day.
func (EventLetterArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueLetter, MaxAttempts: 30}
}

type eventLetterWorker struct {
	river.WorkerDefaults[EventLetterArgs]
	engine *Engine
}

// Timeout leaves the submission server its time.
func (w *eventLetterWorker) Timeout(*river.Job[EventLetterArgs]) time.Duration { return letterTimeout }

// NextRetry waits ever longer, up to an hour.
func (w *eventLetterWorker) NextRetry(job *river.Job[EventLetterArgs]) time.Time {
	return time.Now().Add(min(5*time.Second<<min(job.Attempt, 12), time.Hour))
}

// Work writes the letter when it is sent, so that it says how things are then, and goes to
// nobody who has left.
func (w *eventLetterWorker) Work(ctx context.Context, job *river.Job[EventLetterArgs]) error {
	e, a := w.engine, job.Args
	var to string
	var l letter.Letter
	var err error
	if len(a.Daily) > 0 {
		to, l, err = e.Outbox.DailyTo(ctx, a.Person, a.Daily)
	} else {
		to, l, err = e.Outbox.LetterTo(ctx, a.Seq, a.Person)
	}
	if err == nil {
		err = e.Outbox.Office.Send(ctx, to, l)
	}
	var wrong *problem.Field
	switch {
	case errors.Is(err, store.ErrNotFound), errors.Is(err, letter.ErrNone):
		return nil
	case errors.As(err, &wrong):
		return river.JobCancel(err)
	case err != nil:
		e.Log.Warn("a letter about an event was not taken", "attempt", job.Attempt, "err", err)
	}
	return err
}

type letterWorker struct {
	river.WorkerDefaults[LetterArgs]
	engine *Engine
	office *letter.Office
}

// Timeout leaves the submission server its time.
func (w *letterWorker) Timeout(*river.Job[LetterArgs]) time.Duration { return letterTimeout }

func (w *letterWorker) Work(ctx context.Context, job *river.Job[LetterArgs]) error {
	text, err := w.engine.Secrets.Open(job.Args.Sealed, letterPurpose)
	if err != nil {
		return river.JobCancel(err)
	}
	var p posted
	if err := json.Unmarshal([]byte(text), &p); err != nil {
		return river.JobCancel(err)
	}
	if p.To == "" {
		return nil
	}
	if time.Since(job.CreatedAt) > letterTooOld {
		return river.JobCancel(errors.New("the letter is too old to be sent"))
	}
	err = w.office.Send(ctx, p.To, p.Letter)
	var wrong *problem.Field
	if errors.Is(err, letter.ErrNone) || errors.As(err, &wrong) {
		w.engine.Log.Warn("a letter was not sent", "err", err)
		return river.JobCancel(err)
	}
	if err != nil {
		w.engine.Log.Warn("a letter was not taken", "attempt", job.Attempt, "err", err)
	}
	return err
}

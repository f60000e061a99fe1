package work

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/internal/letter"
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
	var wrong *letter.Wrong
	if errors.Is(err, letter.ErrNone) || errors.As(err, &wrong) {
		w.engine.Log.Warn("a letter was not sent", "err", err)
		return river.JobCancel(err)
	}
	if err != nil {
		w.engine.Log.Warn("a letter was not taken", "attempt", job.Attempt, "err", err)
	}
	return err
}

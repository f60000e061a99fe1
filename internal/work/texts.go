package work

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
)

// TextsArgs names the list whose texts are to be made for searching.
type TextsArgs struct {
	List int64 `json:"list"`
}

// Kind names the job.
func (TextsArgs) Kind() string { return "texts" }

type textsWorker struct {
	river.WorkerDefaults[TextsArgs]
	engine *Engine
}

func (w *textsWorker) Work(ctx context.Context, job *river.Job[TextsArgs]) error {
	return w.engine.Store.MakeTexts(ctx, job.Args.List)
}

// textsAfter is how long after a list was brought in its texts are made: nobody
// searches before there are results, and the run goes first.
const textsAfter = 5 * time.Second

func (e *Engine) makeTexts(ctx context.Context, tx pgx.Tx, list int64) error {
	_, err := e.client.InsertTx(ctx, tx, TextsArgs{List: list}, &river.InsertOpts{ScheduledAt: time.Now().Add(textsAfter)})
	return err
}

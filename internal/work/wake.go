package work

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/pace"
	"varnet/internal/store"
)

// WakeArgs names the lanes to open again. Parcels are put off by a wake and
// not by their lane's own job, which stays free for what may be asked sooner.
type WakeArgs struct {
	Key string `json:"key"`
}

// Kind names the job.
func (WakeArgs) Kind() string { return "wake" }

type wakeWorker struct {
	river.WorkerDefaults[WakeArgs]
	engine *Engine
}

func (w *wakeWorker) Work(ctx context.Context, job *river.Job[WakeArgs]) error {
	e, key := w.engine, job.Args.Key
	side, err := e.Outbound.Setup(ctx)
	if err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		ready, err := s.Ready(ctx, key)
		if err != nil || ready.Parcels == 0 {
			return err
		}
		known, err := s.Operators(ctx, []string{pace.PlainKey(key)})
		if err != nil {
			return err
		}
		speeds, err := s.Speeds(ctx, []string{key})
		if err != nil {
			return err
		}
		all := side.Lanes(key, known)
		lanes := lanesOf(key, pace.Employed(ready.Parcels, ready.Addresses, all.N, speeds[key]))
		return e.openMissing(ctx, s, tx, opened(turn{urgency(ready, all.N, speeds[key]), all.Location}, lanes...))
	})
}

func (e *Engine) wake(ctx context.Context, tx pgx.Tx, key string, at time.Time) error {
	_, err := e.client.InsertTx(ctx, tx, WakeArgs{Key: key}, &river.InsertOpts{ScheduledAt: at})
	return err
}

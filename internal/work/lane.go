package work

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"varnet/core/pace"
	"varnet/internal/outbound"
	"varnet/internal/store"
)

type riverpgx = riverpgxv5.Driver

// LaneArgs names a lane: of an operator, or of a group of small ones.
type LaneArgs struct {
	Key  string `json:"key"`
	Lane int    `json:"lane"`
}

// lanesOf names the first lanes of a key.
func lanesOf(key string, lanes int) []LaneArgs {
	out := make([]LaneArgs, lanes)
	for n := range out {
		out[n] = LaneArgs{Key: key, Lane: n}
	}
	return out
}

// Kind names the job.
func (LaneArgs) Kind() string { return "lane" }

// InsertOpts makes it one job a lane.
func (l LaneArgs) InsertOpts() river.InsertOpts {
	if pace.IsPatient(l.Key) {
		return river.InsertOpts{Queue: queuePatient, UniqueOpts: unique}
	}
	return river.InsertOpts{Queue: queueLane, UniqueOpts: unique}
}

type laneWorker struct {
	river.WorkerDefaults[LaneArgs]
	engine *Engine
}

// Timeout leaves patient lanes the time that they wait.
func (w *laneWorker) Timeout(job *river.Job[LaneArgs]) time.Duration {
	if pace.IsPatient(job.Args.Key) {
		return w.engine.patience() + jobTimeout
	}
	return 0
}

// patience is how long a parcel of a patient lane may take: two sessions that come to
// nothing, each step of which is waited for.
func (e *Engine) patience() time.Duration { return 3*e.Prober.LastWait + deadline }

// laneTime is how long a parcel of a lane may take.
func (e *Engine) laneTime(key string) time.Duration {
	if pace.IsPatient(key) {
		return e.patience()
	}
	return deadline
}

func (w *laneWorker) Work(ctx context.Context, job *river.Job[LaneArgs]) error {
	e, start := w.engine, time.Now()
	if n, err := e.Store.GiveBack(ctx, job.Args.Key, job.Args.Lane); err != nil {
		return err
	} else if n > 0 {
		e.Log.Info("parcels of a lost worker given back", "lane", job.Args.Key, "parcels", n)
	}
	for run := int64(0); time.Since(start) < slice && !e.closing.Load(); {
		var err error
		if run, err = e.workParcel(ctx, job.Args, start.Add(e.laneTime(job.Args.Key)), run); err != nil {
			return err
		}
		if run == 0 {
			break
		}
	}
	// The last parcel of a run may have been recorded here, or by a worker that died.
	if err := e.finishDone(ctx, 0); err != nil {
		return err
	}
	return e.succeed(ctx, job)
}

// succeed completes the job and, when there is more to do, hands on to a
// successor in the same transaction. Completing comes first: whoever inserts
// parcels and this lane's job at the same moment either waits for it, and then
// inserts the job, or is waited for, and then the parcels are seen here.
func (e *Engine) succeed(ctx context.Context, job *river.Job[LaneArgs]) error {
	side, err := e.Outbound.Setup(ctx)
	if err != nil {
		return err
	}
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if _, err := river.JobCompleteTx[*riverpgx](ctx, tx, job); err != nil {
			return err
		}
		ready, err := s.Ready(ctx, job.Args.Key)
		if err != nil || ready.Parcels == 0 {
			return err
		}
		known, err := s.Operators(ctx, []string{pace.PlainKey(job.Args.Key)})
		if err != nil {
			return err
		}
		all := side.Lanes(job.Args.Key, known)
		if all.Until.After(time.Now()) {
			return e.wake(ctx, tx, job.Args.Key, all.Until)
		}
		if job.Args.Lane >= all.N {
			return nil // the operator has fewer lanes now; the others go on
		}
		// The others are left alone: two lanes that end would wait for each other.
		t, err := turnOf(ctx, s, job.Args.Key, ready, all)
		if err != nil {
			return err
		}
		return e.insertLanes(ctx, tx, opened(t, job.Args))
	})
}

// open inserts the jobs of some of a key's lanes, before others where what is ready
// takes them longer.
func (e *Engine) open(ctx context.Context, s *store.Store, tx pgx.Tx, ready store.Ready, all outbound.Lanes, lanes ...LaneArgs) error {
	t, err := turnOf(ctx, s, lanes[0].Key, ready, all)
	if err != nil {
		return err
	}
	return e.openMissing(ctx, s, tx, opened(t, lanes...))
}

// turnOf is when and where the lanes of a key are worked on.
func turnOf(ctx context.Context, s *store.Store, key string, ready store.Ready, all outbound.Lanes) (turn, error) {
	speeds, err := s.Speeds(ctx, []string{key})
	return turn{urgency(ready, all.N, speeds[key]), all.Location}, err
}

// turn is how soon lanes are worked on, and at which location.
type turn struct {
	urgency  int
	location string
}

// urgency tells how soon a lane key is to be worked on.
func urgency(ready store.Ready, lanes int, perSecond float64) int {
	load := pace.Load{Addresses: ready.Addresses, Lanes: lanes, Cap: lanes, PerSecond: perSecond}
	return pace.Urgency(ready.Turn, load.Takes())
}

// openedLane is a lane that is to be worked on.
type openedLane struct {
	LaneArgs
	turn
}

func opened(t turn, lanes ...LaneArgs) []openedLane {
	out := make([]openedLane, len(lanes))
	for i, l := range lanes {
		out[i] = openedLane{l, t}
	}
	return out
}

// openMissing inserts the jobs of those lanes that have none. The others are held until the transaction ends,
// by all who hold them side by side: so a lane that is about to end waits, and sees what was added.
func (e *Engine) openMissing(ctx context.Context, s *store.Store, tx pgx.Tx, lanes []openedLane) error {
	keys := map[string]bool{}
	for _, l := range lanes {
		keys[l.Key] = true
	}
	going, err := s.LanesGoing(ctx, LaneArgs{}.Kind(), slices.Sorted(maps.Keys(keys)))
	if err != nil {
		return err
	}
	return e.insertLanes(ctx, tx, slices.DeleteFunc(lanes, func(l openedLane) bool { return slices.Contains(going[l.Key], l.Lane) }))
}

// insertLanes inserts the jobs of lanes; whoever has one keeps it.
func (e *Engine) insertLanes(ctx context.Context, tx pgx.Tx, lanes []openedLane) error {
	if len(lanes) == 0 {
		return nil
	}
	params := make([]river.InsertManyParams, len(lanes))
	for i, l := range lanes {
		opts := l.InsertOpts()
		opts.Priority, opts.Queue = l.urgency, queueAt(opts.Queue, l.location)
		params[i] = river.InsertManyParams{Args: l.LaneArgs, InsertOpts: &opts}
	}
	_, err := e.client.InsertManyTx(ctx, tx, params)
	return err
}

// followUp sets going what comes after a parcel: a wake for each parcel put
// off, and one more lane when the operator has earned it.
func (e *Engine) followUp(ctx context.Context, st *store.Store, tx pgx.Tx, s *outbound.Setup, lane LaneArgs, learnt pace.Pace, parcels []store.Parcel) error {
	if err := e.openLanes(ctx, st, tx, s, nil, parcels); err != nil {
		return err
	}
	if learnt.Lanes <= 1 || learnt.Calm > 0 || learnt.Complaints > 0 {
		return nil
	}
	ready, err := st.Ready(ctx, lane.Key)
	if err != nil || ready.Parcels == 0 {
		return err
	}
	// What was learnt is learnt by the way of this process.
	return e.open(ctx, st, tx, ready, outbound.Lanes{N: learnt.Lanes, Location: e.Location}, LaneArgs{Key: lane.Key, Lane: learnt.Lanes - 1})
}

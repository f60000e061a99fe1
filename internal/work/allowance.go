package work

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/core/fault"
	"varnet/core/finding"
	"varnet/internal/allowance"
	"varnet/internal/store"
)

// orderOf returns what a run is to have set aside; nil where no allowance is kept, or it is free.
func (e *Engine) orderOf(ctx context.Context, run store.Run, by store.By) (*allowance.Order, error) {
	_, kept, err := allowance.Kept(ctx, e.Store, run.WorkspaceID)
	if err == nil && !kept && run.Urgent {
		err = &allowance.Refused{Why: "Urgent runs are part of a plan, and this workspace has none. Start it without."}
	}
	if err != nil || !kept || run.Sample != nil {
		return nil, err
	}
	l, err := e.Store.List(ctx, run.WorkspaceID, run.ListID)
	if err != nil {
		return nil, err
	}
	reused := int64(0)
	if run.Depth == store.DepthMailbox {
		if reused, err = e.reusable(ctx, run); err != nil {
			return nil, err
		}
	}
	o := e.orderFor(l, run, by, reused)
	return &o, nil
}

func (e *Engine) orderFor(l store.List, run store.Run, by store.By, reused int64) allowance.Order {
	by.ConnectionID = l.ConnectionID
	return allowance.Order{Workspace: run.WorkspaceID, What: store.ForRun, List: l.Name, By: by, Depth: string(run.Depth), Urgent: run.Urgent,
		Addresses: l.Addresses - reused, Malformed: l.Malformed}
}

// SaidOf returns what a run of a list may take, of which so many results are reused; kept is false where no
// allowance is kept.
func (e *Engine) SaidOf(ctx context.Context, l store.List, run store.Run, reused int64) (allowance.Said, bool, error) {
	return e.Allowance.Say(ctx, l, e.orderFor(l, run, store.By{}, reused), reused)
}

// reserveAgain sets aside what asking again may cost: of addresses with a conclusive finding nothing.
func (e *Engine) reserveAgain(ctx context.Context, s *store.Store, tx pgx.Tx, run store.Run, by store.By) error {
	if _, kept, err := allowance.Kept(ctx, s, run.WorkspaceID); err != nil || !kept {
		return err
	}
	l, err := s.List(ctx, run.WorkspaceID, run.ListID)
	if err != nil {
		return err
	}
	counts, err := s.StandingAgain(ctx, run.ID)
	if err != nil {
		return err
	}
	verdicts, err := s.Verdicts(ctx)
	if err != nil {
		return err
	}
	o := e.orderFor(l, run, by, 0)
	o.What, o.Run, o.Addresses, o.Malformed = store.ForAgain, run.ID, 0, 0
	for id, n := range counts {
		o.Standing = append(o.Standing, allowance.Standing{Verdict: verdicts[id], Addresses: n})
	}
	_, err = e.Allowance.Reserve(ctx, s, tx, o)
	return err
}

// StopRun stops a run, and gives back what of its reservation is not charged; what conversations in
// flight still find is charged before that.
func (e *Engine) StopRun(ctx context.Context, workspace, run int64) error {
	if err := e.Store.StopRun(ctx, workspace, run); err != nil {
		return err
	}
	return e.Allowance.CloseEnded(ctx, run)
}

// Reserve sets aside what a check of some addresses may cost.
type Reserve func(ctx context.Context, addresses int) (store.Reservation, error)

// CheckPaid checks addresses side by side, each once, and charges what they came to. With too little
// left it asks no mail host and returns why: what is known of the addresses, and of their domains, is looked up
// while that is set aside.
func (e *Engine) CheckPaid(ctx context.Context, workspace int64, reserve Reserve, typed []string) ([]Checked, error) {
	once := slices.Compact(slices.Sorted(slices.Values(typed)))
	done, found := make([]Checked, len(once)), make([]finding.Verdict, len(once))
	var wg sync.WaitGroup
	var faults fault.Keeper
	var r store.Reservation
	err, reserved := errors.New("nothing was set aside"), make(chan struct{}) // the error stays where reserve panics
	wg.Go(func() {
		defer faults.Keep()
		defer close(reserved)
		r, err = reserve(ctx, len(once))
	})
	asked := func(s finding.Stage, _ Checked) (goOn bool) {
		if s == finding.StageDomain {
			<-reserved
			return err == nil
		}
		return true
	}
	for i, t := range once {
		wg.Go(func() {
			defer faults.Keep()
			done[i] = e.Check(ctx, workspace, t, asked)
			found[i] = done[i].Verdict
		})
	}
	wg.Wait()
	faults.Throw()
	if err != nil {
		return nil, err
	}
	out := make([]Checked, len(typed))
	for i, t := range typed {
		at, _ := slices.BinarySearch(once, t)
		out[i] = done[at]
	}
	return out, e.Allowance.Settle(context.WithoutCancel(ctx), r, found) // whoever asked may have hung up
}

// baseURL is where people reach the console; "" where nobody said.
func (e *Engine) baseURL(ctx context.Context) string {
	s, err := e.Outbox.Office.Settings(ctx)
	if err != nil {
		return ""
	}
	return s.BaseURL
}

// BuyArgs is the job that buys what is bought by itself.
type BuyArgs struct{}

// Kind names the job.
func (BuyArgs) Kind() string { return "buy-checks" }

// InsertOpts has one at a time.
func (BuyArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{UniqueOpts: unique} }

type buyWorker struct {
	river.WorkerDefaults[BuyArgs]
	engine *Engine
}

func (w *buyWorker) Work(ctx context.Context, _ *river.Job[BuyArgs]) error {
	return w.engine.Allowance.BuyDue(ctx, w.engine.baseURL(ctx))
}

func buying() *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(calendarEvery), func() (river.JobArgs, *river.InsertOpts) { return BuyArgs{}, nil }, nil)
}

// VerifyArgs is the job that verifies the book of allowances.
type VerifyArgs struct{}

// Kind names the job.
func (VerifyArgs) Kind() string { return "verify-ledger" }

// InsertOpts has one at a time.
func (VerifyArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{UniqueOpts: unique} }

// verifyEvery is how often the book is verified.
const verifyEvery = 6 * time.Hour

type verifyWorker struct {
	river.WorkerDefaults[VerifyArgs]
	engine *Engine
}

// Timeout leaves a large book its time.
func (w *verifyWorker) Timeout(*river.Job[VerifyArgs]) time.Duration { return 10 * time.Minute }

func (w *verifyWorker) Work(ctx context.Context, _ *river.Job[VerifyArgs]) error {
	e := w.engine
	v, err := e.Allowance.Verify(ctx)
	if err != nil || len(v.Problems) == 0 {
		return err
	}
	e.Log.Error("the ledger is wrong", "problems", v.Problems)
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		return e.Happened(ctx, s, tx, event.Event{Code: event.LedgerWrong, Says: v.Says(), Data: event.Data{Words: v.Says()}})
	})
}

func verifying() *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(verifyEvery), func() (river.JobArgs, *river.InsertOpts) { return VerifyArgs{}, nil }, nil)
}

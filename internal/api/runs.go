package api

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"varnet/internal/allowance"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/live"
	"varnet/internal/store"
	"varnet/internal/summary"
)

func (a *API) registerRuns(h huma.API) {
	huma.Register(h, creates(operation("start-run", http.MethodPost, "/lists/{id}/runs", "Start a run of a list")), a.startRun)
	huma.Register(h, operation("get-runs", http.MethodGet, "/runs", "The runs, newest first"), a.runs)
	huma.Register(h, operation("get-run", http.MethodGet, "/runs/{id}", "Where a run stands"), a.run)
	huma.Register(h, operation("draft-run", http.MethodPost, "/lists/{id}/draft", "What a run of a list would take; nothing is started"), a.draftRun)
	huma.Register(h, operation("begin-run", http.MethodPost, "/runs/{id}/begin", "Let a drafted run begin now, whatever its times say"), a.beginRun)
	huma.Register(h, operation("stop-run", http.MethodPost, "/runs/{id}/stop", "Stop a run; what is known stays"), a.stopRun)
	huma.Register(h, operation("pause-run", http.MethodPost, "/runs/{id}/pause", "Let a run wait; conversations in flight come to their end"), a.pauseRun)
	huma.Register(h, operation("resume-run", http.MethodPost, "/runs/{id}/resume", "Let a paused run go on where it was"), a.resumeRun)
	huma.Register(h, operation("ask-again", http.MethodPost, "/runs/{id}/ask-again",
		"Ask again about some addresses of a finished run"), a.askAgain)
	events := operation("watch-run", http.MethodGet, "/runs/{id}/events", "Where a run stands, told whenever it changes, until it ends")
	events.Middlewares = huma.Middlewares{a.runIsThere(h)}
	sse.Register(h, events, map[string]any{"run": contract.Run{}}, a.runEvents)
}

// runIsThere answers for a run that the workspace has not: a stream that has begun
// cannot.
func (a *API) runIsThere(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		id, err := strconv.ParseInt(ctx.Param("id"), 10, 64)
		if err != nil {
			next(ctx) // the contract says what is wrong with it
			return
		}
		if _, err := a.store.Run(ctx.Context(), workspace(ctx.Context()).ID, id); err != nil {
			var told huma.StatusError
			_ = errors.As(a.failed(ctx.Context(), err), &told)
			_ = huma.WriteErr(h, ctx, told.GetStatus(), told.Error())
			return
		}
		next(ctx)
	}
}

type runOutput struct{ Body contract.Run }

func (a *API) startRun(ctx context.Context, in *struct {
	ByID
	Body contract.NewRun
}) (*made[contract.Run], error) {
	w := workspace(ctx).ID
	l, err := a.store.List(ctx, w, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	r, err := a.newRun(ctx, l, in.Body)
	if err != nil {
		return nil, err
	}
	if err := a.engine.StartRun(ctx, &r, by(ctx)); err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := a.runOutput(ctx, r, l)
	if err != nil {
		return nil, err
	}
	return &made[contract.Run]{fmt.Sprintf("/api/v1/runs/%d", r.ID), out.Body}, nil
}

// newRun is a run of a list as it was asked for.
func (a *API) newRun(ctx context.Context, l store.List, n contract.NewRun) (r store.Run, err error) {
	p, err := a.namedPolicy(ctx, n.Policy, 0)
	if err != nil {
		return r, err
	}
	r = store.Run{WorkspaceID: l.WorkspaceID, ListID: l.ID, Depth: store.Depth(n.Depth), Policy: p, ReuseDays: n.ReuseDays, Urgent: n.Urgent}
	r.Hours, r.Zone, r.LimitMinutes = n.Hours, n.Zone, n.LimitMinutes
	if n.BeginAt != nil {
		r.BeginAt = *n.BeginAt
	}
	if _, err := r.Rule().Hours.Opens(time.Now()); err != nil {
		return r, huma.Error422UnprocessableEntity(strings.ToUpper(err.Error()[:1]) + err.Error()[1:] + ".")
	}
	return r, nil
}

func (a *API) beginRun(ctx context.Context, in *ByID) (*runOutput, error) {
	if _, err := a.store.Run(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	ok, err := a.engine.BeginRun(ctx, in.ID)
	switch {
	case err != nil:
		return nil, a.failed(ctx, err)
	case !ok:
		return nil, huma.Error409Conflict(fmt.Sprintf("Run %d has begun already.", in.ID))
	}
	return a.run(ctx, in)
}

func (a *API) runOutput(ctx context.Context, r store.Run, l store.List) (*runOutput, error) {
	b, err := a.summaries.Run(ctx, r, l, zone(ctx))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	spent, err := a.store.SpentOn(ctx, r.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if len(spent) > 0 {
		b.Cost = allowance.CostOf(spent)
	}
	return &runOutput{b}, nil
}

// runAndList reads a run with its list.
func (a *API) runAndList(ctx context.Context, id int64) (r store.Run, l store.List, err error) {
	w := workspace(ctx).ID
	if r, err = a.store.Run(ctx, w, id); err == nil {
		l, err = a.store.List(ctx, w, r.ListID)
	}
	return r, l, err
}

func (a *API) run(ctx context.Context, in *ByID) (*runOutput, error) {
	r, l, err := a.runAndList(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.runOutput(ctx, r, l)
}

func (a *API) runs(ctx context.Context, in *struct {
	Cursor
	Limit
	List int64 `query:"list" minimum:"0" doc:"Only runs of this list; 0: of all."`
}) (*pageOutput[contract.Run], error) {
	w, before := workspace(ctx).ID, int64(0)
	if err := in.place(&before); err != nil {
		return nil, err
	}
	runs, err := a.store.Runs(ctx, w, in.List, before, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	lists, err := a.store.ListsByNumber(ctx, w, contract.Each(runs, func(r store.Run) int64 { return r.ListID }))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := a.summaries.Runs(ctx, runs, lists, zone(ctx))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return pageOf(out, in.Limit.Limit, func(r contract.Run) any { return r.ID }), nil
}

func (a *API) stopRun(ctx context.Context, in *ByID) (*runOutput, error) {
	if err := a.engine.StopRun(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.run(ctx, in)
}

func (a *API) pauseRun(ctx context.Context, in *ByID) (*runOutput, error) {
	if err := a.store.PauseRun(ctx, workspace(ctx).ID, in.ID, nil); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.run(ctx, in)
}

func (a *API) resumeRun(ctx context.Context, in *ByID) (*runOutput, error) {
	if err := a.engine.ResumeRun(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.run(ctx, in)
}

func (a *API) askAgain(ctx context.Context, in *struct {
	MatchingInput
	Body contract.AskAgain
}) (*runOutput, error) {
	if err := in.Body.Check(); err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	d, err := a.decider(ctx, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	r, which, n := d.Run, in.Body, int64(0)
	filtered := in.Filter != (decide.Filter{})
	if filtered {
		which.Ordinals, err = d.Matching(ctx, in.Filter, math.MaxInt32-1)
	}
	if err == nil && (!filtered || len(which.Ordinals) > 0) {
		n, err = a.engine.AskAgain(ctx, r, d.VerdictsWhere(which.Fits), which.Ordinals, by(ctx))
	}
	switch {
	case errors.Is(err, store.ErrNotFinished):
		return nil, huma.Error409Conflict(fmt.Sprintf("Run %d is not finished; ask again when it is.", r.ID))
	case err != nil:
		return nil, a.failed(ctx, err)
	case n == 0:
		return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("Run %d has no address of that kind to ask again about.", r.ID))
	}
	return a.run(ctx, &in.ByID)
}

// lookAnyway is after how long a run is looked at again of which nothing was told: what is said of it
// depends on the time, and on other runs.
const lookAnyway = 2 * time.Second

// runEvents tells where a run stands whenever that has changed.
func (a *API) runEvents(ctx context.Context, in *ByID, send sse.Sender) {
	w := a.live.Watch(workspace(ctx).ID)
	defer w.Close()
	var last string
	sent, seen := time.Time{}, time.Now()
	for {
		out, err := a.run(ctx, in)
		if err != nil {
			return
		}
		now := time.Now()
		if now.Sub(seen) > beatEvery {
			if seen = now; !a.stillIn(ctx) {
				return
			}
		}
		state := fmt.Sprint(out.Body.State, out.Body.Done, out.Body.Postponed, out.Body.Again, out.Body.PerMinute, out.Body.Notices, summary.Waiting(out.Body.Waits))
		if state != last || now.Sub(sent) > beatEvery { // so that a dead line is noticed
			if send.Data(out.Body) != nil {
				return
			}
			last, sent = state, now
		}
		if out.Body.FinishedAt != nil || !a.awaitRun(ctx, w, in.ID) {
			return
		}
	}
}

// awaitRun waits until a run is to be looked at again: when it has changed, but not at once, or after a
// while in any case. ok is false when nobody watches any more.
func (a *API) awaitRun(ctx context.Context, w *live.Watcher, run int64) (ok bool) {
	anyway := time.After(lookAnyway)
	if !rested(ctx) {
		return false
	}
	for {
		select {
		case <-w.Changed():
			if slices.ContainsFunc(w.Take(), func(c store.Change) bool { return c.Kind == live.Everything || c.Kind == "run" && c.ID == run }) {
				return true
			}
		case <-anyway:
			return true
		case <-ctx.Done():
			return false
		case <-a.ending.Done():
			return false
		}
	}
}

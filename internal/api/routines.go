package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/problem"
	"varnet/internal/contract"
	"varnet/internal/routine"
	"varnet/internal/store"
	"varnet/internal/store/pack"
	"varnet/internal/writeback"
)

func (a *API) registerRoutines(h huma.API) {
	huma.Register(h, operation("get-routines", http.MethodGet, "/routines", "The routines of the workspace, by name"), a.routines)
	huma.Register(h, creates(operation("make-routine", http.MethodPost, "/routines", "Make a routine")), a.makeRoutine)
	huma.Register(h, operation("draft-routine", http.MethodPost, "/routines/draft", "What a routine would do, and when; nothing is made"), a.draftRoutine)
	huma.Register(h, operation("get-routine", http.MethodGet, "/routines/{id}", "One routine"), a.routine)
	huma.Register(h, operation("change-routine", http.MethodPatch, "/routines/{id}", "Change a routine's name or what it does, pause or resume it"), a.changeRoutine)
	huma.Register(h, operation("delete-routine", http.MethodDelete, "/routines/{id}", "Delete a routine; its lists stay"), a.deleteRoutine)
	huma.Register(h, operation("run-routine", http.MethodPost, "/routines/{id}/run", "Run a routine now"), a.runRoutine)
	huma.Register(h, operation("get-routine-times", http.MethodGet, "/routines/{id}/times", "The times at which a routine was due, the newest first"), a.routineTimes)
	huma.Register(h, operation("decide-routine-time", http.MethodPost, "/routines/{id}/times/{number}/decision", "Decide whether a time that is held goes on"), a.decideRoutineTime)
}

func recordBody(r pack.RoutineRecord) contract.RoutineRecord {
	return contract.RoutineRecord{File: r.File, ImportID: r.ImportID, WriteBackID: r.WriteBackID, SourceID: r.SourceID, Made: r.Made, Unchanged: r.Unchanged, Rows: r.Rows, Addresses: r.Addresses, Added: r.Added, Gone: r.Gone, Asked: r.Asked, Reused: r.Reused,
		Kept: r.Kept, KeptBefore: r.KeptBefore, NewlyDropped: r.NewlyDropped, AgeDays: r.AgeDays, Before: r.Before, Written: r.Written,
		Changes: append([]contract.RoutineMovements{}, contract.Each(r.Changes, func(c pack.RoutineChange) contract.RoutineMovements { return contract.RoutineMovements(c) })...)}
}

// routineSpecBody and routineSpecOf are what a routine does as the API has it, and as it is kept.
func routineSpecBody(s pack.RoutineSpec) contract.RoutineSpec {
	return contract.RoutineSpec{Source: s.Source, ListID: s.ListID, File: s.File, URL: s.URL, ConnectionID: s.ConnectionID, Collection: s.Collection, CollectionName: s.CollectionName, RecipeID: s.RecipeID, RecipeName: s.RecipeName, Rule: s.Rule, Time: s.Time, Zone: s.Zone,
		OnChange: s.OnChange, Ages: s.Ages, Policy: s.Policy, Then: s.Then, ThenFile: s.ThenFile, ThenURL: s.ThenURL, Hours: s.Hours, MostChecks: s.MostChecks, MostDropped: s.MostDropped, Tell: s.Tell,
		ThenSteps: contract.Each(s.ThenSteps, func(s pack.WriteBackStep) contract.WriteBackStep { return contract.WriteBackStep(s) })}
}

func routineSpecOf(s contract.RoutineSpec) pack.RoutineSpec {
	return pack.RoutineSpec{Source: s.Source, ListID: s.ListID, File: s.File, URL: s.URL, ConnectionID: s.ConnectionID, Collection: s.Collection, CollectionName: s.CollectionName, RecipeID: s.RecipeID, RecipeName: s.RecipeName, Rule: s.Rule, Time: s.Time, Zone: s.Zone,
		OnChange: s.OnChange, Ages: s.Ages, Policy: s.Policy, Then: s.Then, ThenFile: s.ThenFile, ThenURL: s.ThenURL, Hours: s.Hours, MostChecks: s.MostChecks, MostDropped: s.MostDropped, Tell: s.Tell,
		ThenSteps: contract.Each(s.ThenSteps, func(s contract.WriteBackStep) pack.WriteBackStep { return pack.WriteBackStep(s) })}
}

func timeBody(t store.RoutineTime) contract.RoutineTime {
	b := contract.RoutineTime{Number: t.Number, DueAt: t.DueAt, Missed: t.Missed, Why: t.Why, Dry: t.Dry, State: t.State, Record: recordBody(t.Record), Says: t.Says, BegunAt: t.BegunAt, EndedAt: t.EndedAt}
	if t.ListID != nil {
		b.ListID = *t.ListID
	}
	if t.RunID != nil {
		b.RunID = *t.RunID
	}
	return b
}

// connectionNames are what people call the connections of the workspace.
func (a *API) connectionNames(ctx context.Context) (map[int64]string, error) {
	all, err := a.store.Connections(ctx, workspace(ctx).ID)
	out := map[int64]string{}
	for _, c := range all {
		out[c.ID] = c.Name
	}
	return out, err
}

// routineBodies are routines with their newest times.
func (a *API) routineBodies(ctx context.Context, all []store.Routine) ([]contract.Routine, error) {
	var ids, lists []int64
	for _, r := range all {
		ids = append(ids, r.ID)
		if r.Spec.ListID > 0 {
			lists = append(lists, r.Spec.ListID)
		}
	}
	last, err := a.store.LastTimes(ctx, ids)
	if err != nil {
		return nil, err
	}
	named, err := a.store.ListsByNumber(ctx, workspace(ctx).ID, lists)
	if err != nil {
		return nil, err
	}
	connected, err := a.connectionNames(ctx)
	if err != nil {
		return nil, err
	}
	return contract.Each(all, func(r store.Routine) contract.Routine {
		says := routine.Says(r.Spec, r.CreatedAt, cmp.Or(named[r.Spec.ListID].Name, connected[r.Spec.ConnectionID]))
		due, _, _ := strings.Cut(says[0], ": reads")
		b := contract.Routine{ID: r.ID, Name: r.Name, Spec: routineSpecBody(r.Spec), Says: says, Due: due, Paused: r.PausedAt != nil, CreatedAt: r.CreatedAt}
		if r.PausedAt == nil {
			b.NextAt = r.NextAt
		}
		if r.ListID != nil {
			b.ListID = *r.ListID
		}
		if t, ok := last[r.ID]; ok {
			body := timeBody(t)
			b.Last = &body
		}
		return b
	}), nil
}

func (a *API) routines(ctx context.Context, _ *struct{}) (*pageOutput[contract.Routine], error) {
	found, err := a.store.Routines(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := a.routineBodies(ctx, found)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(out), nil
}

type routineOutput struct{ Body contract.Routine }

func (a *API) routine(ctx context.Context, in *ByID) (*routineOutput, error) {
	r, err := a.store.Routine(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := a.routineBodies(ctx, []store.Routine{r})
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &routineOutput{out[0]}, nil
}

// checkRoutine reports what of a routine cannot be, where in the body it stands.
func (a *API) checkRoutine(ctx context.Context, s pack.RoutineSpec, made time.Time, in string) error {
	var wrong *problem.Field
	if err := a.engine.Routines.Check(s, made); errors.As(err, &wrong) {
		return huma.Error422UnprocessableEntity("This routine will not work: "+wrong.Why+".", &huma.ErrorDetail{Location: in + "." + wrong.Name, Message: wrong.Why})
	}
	if s.Source == routine.FromList {
		if _, err := a.store.List(ctx, workspace(ctx).ID, s.ListID); err != nil {
			return a.failed(ctx, err)
		}
	}
	if s.Source == routine.FromConnection {
		if err := a.checkRoutineConnection(ctx, s, in); err != nil {
			return err
		}
	}
	if s.RecipeID > 0 {
		if _, err := a.store.StepRecipe(ctx, workspace(ctx).ID, s.RecipeID); err != nil {
			return a.failed(ctx, err)
		}
	}
	_, err := a.namedPolicy(ctx, s.Policy, 0)
	return err
}

// checkRoutineConnection holds a routine against the place that it reads.
func (a *API) checkRoutineConnection(ctx context.Context, s pack.RoutineSpec, in string) error {
	_, place, err := a.at(ctx, s.ConnectionID)
	if err != nil {
		return err
	}
	defer place.Close()
	if s.Then != routine.ToConnection {
		return nil
	}
	var wrong *problem.Field
	if err := writeback.Check(pack.WriteBackSpec{Steps: s.ThenSteps}, place.Takes()); errors.As(err, &wrong) {
		return huma.Error422UnprocessableEntity("This routine will not work: "+wrong.Why+".", &huma.ErrorDetail{Location: in + ".then" + strings.ToUpper(wrong.Name[:1]) + wrong.Name[1:], Message: wrong.Why})
	}
	return nil
}

// mostRoutines is how many a workspace may have.
const mostRoutines = 1000

func (a *API) makeRoutine(ctx context.Context, in *struct{ Body contract.NewRoutine }) (*made[contract.Routine], error) {
	w := workspace(ctx).ID
	there, err := a.store.Routines(ctx, w)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if len(there) >= mostRoutines {
		return nil, huma.Error409Conflict(fmt.Sprintf("A workspace has at most %d routines; delete one first.", mostRoutines))
	}
	r := store.Routine{WorkspaceID: w, Name: strings.TrimSpace(in.Body.Name), Spec: routineSpecOf(in.Body.RoutineSpec)}
	now := a.engine.Clock.Now()
	if err := a.checkRoutine(ctx, r.Spec, now, "body"); err != nil {
		return nil, err
	}
	if err := routine.SetDue(&r, now); err != nil {
		return nil, a.failed(ctx, err)
	}
	if err := a.store.NewRoutine(ctx, &r); err != nil {
		return nil, a.failed(ctx, err)
	}
	out, err := a.routine(ctx, &ByID{r.ID})
	if err != nil {
		return nil, err
	}
	return &made[contract.Routine]{fmt.Sprintf("/api/v1/routines/%d", r.ID), out.Body}, nil
}

// mostDrafted is how many times of a routine a draft names.
const mostDrafted = 5

func (a *API) draftRoutine(ctx context.Context, in *struct{ Body contract.RoutineSpec }) (*struct{ Body contract.RoutineDraft }, error) {
	spec, now := routineSpecOf(in.Body), a.engine.Clock.Now()
	if err := a.checkRoutine(ctx, spec, now, "body"); err != nil {
		return nil, err
	}
	l, err := a.store.ListsByNumber(ctx, workspace(ctx).ID, []int64{spec.ListID})
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	connected, err := a.connectionNames(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	d := contract.RoutineDraft{Says: routine.Says(spec, now, cmp.Or(l[spec.ListID].Name, connected[spec.ConnectionID])), Next: []time.Time{}}
	if when, ok := routine.ScheduleOf(spec, now); ok {
		for at := now; len(d.Next) < mostDrafted; {
			if at, err = when.Next(at); err != nil || at.IsZero() {
				break
			}
			d.Next = append(d.Next, at)
		}
	}
	return &struct{ Body contract.RoutineDraft }{d}, nil
}

func (a *API) changeRoutine(ctx context.Context, in *struct {
	ByID
	Body contract.RoutineChange
}) (*routineOutput, error) {
	r, err := a.store.Routine(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	now := a.engine.Clock.Now()
	if in.Body.Name != nil {
		r.Name = strings.TrimSpace(*in.Body.Name)
	}
	if in.Body.Spec != nil {
		if err := a.checkRoutine(ctx, routineSpecOf(*in.Body.Spec), r.CreatedAt, "body.spec"); err != nil {
			return nil, err
		}
		routine.Respecify(&r, routineSpecOf(*in.Body.Spec))
	}
	switch {
	case in.Body.Paused == nil:
	case *in.Body.Paused && r.PausedAt == nil:
		r.PausedAt = &now
	case !*in.Body.Paused:
		r.PausedAt = nil
	}
	if err := routine.SetDue(&r, now); err != nil {
		return nil, a.failed(ctx, err)
	}
	if err := a.store.ChangeRoutine(ctx, r); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.routine(ctx, &in.ByID)
}

func (a *API) deleteRoutine(ctx context.Context, in *ByID) (*struct{}, error) {
	if err := a.store.DeleteRoutine(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

type routineTimeOutput struct{ Body contract.RoutineTime }

func (a *API) runRoutine(ctx context.Context, in *struct {
	ByID
	Body contract.RunRoutine
}) (*routineTimeOutput, error) {
	r, err := a.store.Routine(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	t, err := a.engine.RunRoutine(ctx, r, in.Body.Dry)
	if errors.Is(err, store.ErrAtWork) {
		return nil, huma.Error409Conflict("The routine is at work, or waits for a decision; two of its times never overlap.")
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &routineTimeOutput{timeBody(t)}, nil
}

func (a *API) routineTimes(ctx context.Context, in *struct {
	ByID
	Cursor
	Limit
}) (*pageOutput[contract.RoutineTime], error) {
	before := 0
	if err := in.place(&before); err != nil {
		return nil, err
	}
	if _, err := a.store.Routine(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	times, err := a.store.Times(ctx, in.ID, before, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return pageOf(contract.Each(times, timeBody), in.Limit.Limit, func(t contract.RoutineTime) any { return t.Number }), nil
}

func (a *API) decideRoutineTime(ctx context.Context, in *struct {
	ByID
	Number int `path:"number" minimum:"1" doc:"Which time it is."`
	Body   contract.RoutineDecision
}) (*routineTimeOutput, error) {
	c := callerOf(ctx)
	r, err := a.store.Routine(ctx, c.WorkspaceID, in.ID)
	var t store.RoutineTime
	if err == nil {
		t, err = a.store.TimeOf(ctx, r.ID, in.Number)
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if t.State != store.TimeHeld {
		return nil, huma.Error409Conflict(fmt.Sprintf("This time is %s and waits for no decision.", t.State))
	}
	if err := a.engine.DecideTime(ctx, r, t, in.Body.GoOn, whose(ctx)); err != nil {
		return nil, a.failed(ctx, err)
	}
	if t, err = a.store.TimeOf(ctx, r.ID, in.Number); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &routineTimeOutput{timeBody(t)}, nil
}

package client

import (
	"context"
	"fmt"
	"net/http"

	"varnet/internal/contract"
)

// Routines returns the routines of the workspace.
func (c *Client) Routines(ctx context.Context) (p contract.Page[contract.Routine], err error) {
	return p, c.call(ctx, http.MethodGet, "/routines", nil, &p)
}

// Routine returns a routine.
func (c *Client) Routine(ctx context.Context, id int64) (r contract.Routine, err error) {
	return r, c.call(ctx, http.MethodGet, fmt.Sprintf("/routines/%d", id), nil, &r)
}

// MakeRoutine makes a routine.
func (c *Client) MakeRoutine(ctx context.Context, n contract.NewRoutine) (r contract.Routine, err error) {
	return r, c.call(ctx, http.MethodPost, "/routines", n, &r)
}

// DraftRoutine says what a routine would do, and when.
func (c *Client) DraftRoutine(ctx context.Context, s contract.RoutineSpec) (d contract.RoutineDraft, err error) {
	return d, c.call(ctx, http.MethodPost, "/routines/draft", s, &d)
}

// ChangeRoutine changes a routine.
func (c *Client) ChangeRoutine(ctx context.Context, id int64, change contract.RoutineChange) (r contract.Routine, err error) {
	return r, c.call(ctx, http.MethodPatch, fmt.Sprintf("/routines/%d", id), change, &r)
}

// DeleteRoutine deletes a routine; its lists stay.
func (c *Client) DeleteRoutine(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/routines/%d", id))
}

// RunRoutine begins a time of a routine now; dry says what it would do.
func (c *Client) RunRoutine(ctx context.Context, id int64, dry bool) (t contract.RoutineTime, err error) {
	return t, c.call(ctx, http.MethodPost, fmt.Sprintf("/routines/%d/run", id), contract.RunRoutine{Dry: dry}, &t)
}

// RoutineTimes returns a page of the times of a routine, the newest first.
func (c *Client) RoutineTimes(ctx context.Context, id int64, page contract.PageQuery) (p contract.Page[contract.RoutineTime], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/routines/%d/times?", id)+contract.Query(page).Encode(), nil, &p)
}

// DecideRoutine has a time that is held go on, or end.
func (c *Client) DecideRoutine(ctx context.Context, id int64, number int, goOn bool) (t contract.RoutineTime, err error) {
	return t, c.call(ctx, http.MethodPost, fmt.Sprintf("/routines/%d/times/%d/decision", id, number), contract.RoutineDecision{GoOn: goOn}, &t)
}

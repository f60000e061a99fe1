package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"varnet/internal/contract"
)

// BeginWorkshopJob has a list made from lists, or says what it would be.
func (c *Client) BeginWorkshopJob(ctx context.Context, n contract.NewWorkshopJob) (j contract.WorkshopJob, err error) {
	return j, c.call(ctx, http.MethodPost, "/workshop-jobs", n, &j)
}

// WorkshopJobs returns the last jobs that made lists.
func (c *Client) WorkshopJobs(ctx context.Context) (p contract.Page[contract.WorkshopJob], err error) {
	return p, c.call(ctx, http.MethodGet, "/workshop-jobs", nil, &p)
}

// WorkshopJob returns how far the making of a list is.
func (c *Client) WorkshopJob(ctx context.Context, id int64) (j contract.WorkshopJob, err error) {
	return j, c.call(ctx, http.MethodGet, fmt.Sprintf("/workshop-jobs/%d", id), nil, &j)
}

// EndWorkshopJob ends the making of a list.
func (c *Client) EndWorkshopJob(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/workshop-jobs/%d", id))
}

// workshopLooks is how often Made looks at a job.
const workshopLooks = 300 * time.Millisecond

// Made begins a job of the workshop and waits for its end; told is called with how far it is.
func (c *Client) Made(ctx context.Context, n contract.NewWorkshopJob, told func(contract.WorkshopJob)) (contract.WorkshopJob, error) {
	j, err := c.BeginWorkshopJob(ctx, n)
	for err == nil && j.EndedAt == nil {
		told(j)
		select {
		case <-time.After(workshopLooks):
			j, err = c.WorkshopJob(ctx, j.ID)
		case <-ctx.Done():
			return j, ctx.Err()
		}
	}
	return j, err
}

// WorkshopFile writes what is made of lists.
func (c *Client) WorkshopFile(ctx context.Context, o contract.WorkshopOrder, format string, w io.Writer) error {
	resp, err := c.do(ctx, http.MethodPost, "/workshop-files?format="+url.QueryEscape(format), o)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = io.Copy(w, resp.Body)
	return err
}

// StepRecipes returns the saved steps.
func (c *Client) StepRecipes(ctx context.Context) (p contract.Page[contract.StepRecipe], err error) {
	return p, c.call(ctx, http.MethodGet, "/step-recipes", nil, &p)
}

// SaveStepRecipe saves steps under a name.
func (c *Client) SaveStepRecipe(ctx context.Context, n contract.NewStepRecipe) (r contract.StepRecipe, err error) {
	return r, c.call(ctx, http.MethodPut, "/step-recipes", n, &r)
}

// DeleteStepRecipe deletes saved steps.
func (c *Client) DeleteStepRecipe(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/step-recipes/%d", id))
}

// TermLists returns the saved terms.
func (c *Client) TermLists(ctx context.Context) (p contract.Page[contract.TermList], err error) {
	return p, c.call(ctx, http.MethodGet, "/term-lists", nil, &p)
}

// SaveTermList saves terms under a name.
func (c *Client) SaveTermList(ctx context.Context, n contract.NewTermList) (t contract.TermList, err error) {
	return t, c.call(ctx, http.MethodPut, "/term-lists", n, &t)
}

// DeleteTermList deletes saved terms.
func (c *Client) DeleteTermList(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/term-lists/%d", id))
}

// ListDomains returns what the domains of a list tell.
func (c *Client) ListDomains(ctx context.Context, list int64) (s contract.DomainStatistics, err error) {
	return s, c.call(ctx, http.MethodGet, fmt.Sprintf("/lists/%d/domains", list), nil, &s)
}

// ListColumns returns what the columns of a list are like.
func (c *Client) ListColumns(ctx context.Context, list int64) (p contract.Page[contract.ColumnProfile], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/lists/%d/columns", list), nil, &p)
}

// ListKnown returns what is known of the addresses of a list.
func (c *Client) ListKnown(ctx context.Context, list int64) (k contract.KnownResults, err error) {
	return k, c.call(ctx, http.MethodGet, fmt.Sprintf("/lists/%d/known", list), nil, &k)
}

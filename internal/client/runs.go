package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"varnet/internal/contract"
)

// Runs returns a page of runs, the newest first.
func (c *Client) Runs(ctx context.Context, q contract.PageQuery) (p contract.Page[contract.Run], err error) {
	return p, c.call(ctx, http.MethodGet, "/runs?"+contract.Query(q).Encode(), nil, &p)
}

// StartRun starts a run of a list.
func (c *Client) StartRun(ctx context.Context, list int64, n contract.NewRun) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodPost, fmt.Sprintf("/lists/%d/runs", list), n, &r)
}

// DraftRun tells what a run of a list would take; nothing is started.
func (c *Client) DraftRun(ctx context.Context, list int64, n contract.NewRun) (d contract.Draft, err error) {
	return d, c.call(ctx, http.MethodPost, fmt.Sprintf("/lists/%d/draft", list), n, &d)
}

// BeginRun lets a drafted run begin now.
func (c *Client) BeginRun(ctx context.Context, id int64) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/begin", id), nil, &r)
}

// Run tells where a run stands.
func (c *Client) Run(ctx context.Context, id int64) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d", id), nil, &r)
}

// StopRun stops a run.
func (c *Client) StopRun(ctx context.Context, id int64) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/stop", id), nil, &r)
}

// PauseRun lets a run wait.
func (c *Client) PauseRun(ctx context.Context, id int64) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/pause", id), nil, &r)
}

// ResumeRun lets a paused run go on.
func (c *Client) ResumeRun(ctx context.Context, id int64) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/resume", id), nil, &r)
}

// AskAgain asks again about chosen addresses of a finished run.
func (c *Client) AskAgain(ctx context.Context, id int64, which contract.AskAgain) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/ask-again", id), which, &r)
}

// RunOperators returns a page of the operators of a run's domains; page holds the
// operation's query.
func (c *Client) RunOperators(ctx context.Context, run int64, page url.Values) (p contract.Page[contract.OperatorCount], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/operators?%s", run, page.Encode()), nil, &p)
}

// ResultAges returns how old the results of a run are.
func (c *Client) ResultAges(ctx context.Context, run int64) (a contract.ResultAges, err error) {
	return a, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/ages", run), nil, &a)
}

// Compare tells what changed from an earlier run to this one.
func (c *Client) Compare(ctx context.Context, run, other int64) (k contract.Comparison, err error) {
	return k, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/compare/%d", run, other), nil, &k)
}

// Domains returns the largest domains of a run's list with a text in their name, at
// most 200.
func (c *Client) Domains(ctx context.Context, run int64, search string) (d []contract.DomainCount, err error) {
	return items[contract.DomainCount](ctx, c, http.MethodGet, fmt.Sprintf("/runs/%d/domains?limit=200&search=%s", run, url.QueryEscape(search)), nil)
}

// Report writes the one-page report of a run, as pdf or html, with times in a
// zone.
func (c *Client) Report(ctx context.Context, run int64, format, zone string, out io.Writer) error {
	return c.download(ctx, fmt.Sprintf("/runs/%d/report?%s", run, url.Values{"format": {format}, "zone": {zone}}.Encode()), out)
}

// Wait follows a run until it ends and calls seen with each news of it. It
// outlasts restarts of the service.
func (c *Client) Wait(ctx context.Context, id int64, seen func(contract.Run)) (contract.Run, error) {
	for {
		r, err := c.follow(ctx, id, seen)
		if err == nil && r.FinishedAt != nil {
			return r, nil
		}
		if refusedForGood(err) || ctx.Err() != nil {
			return r, err
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return r, ctx.Err()
		}
	}
}

// follow reads the run's event stream until it ends.
func (c *Client) follow(ctx context.Context, id int64, seen func(contract.Run)) (r contract.Run, err error) {
	err = c.events(ctx, fmt.Sprintf("/runs/%d/events", id), func(_ string, data []byte) error {
		r = contract.Run{}
		err := json.Unmarshal(data, &r)
		if err == nil {
			seen(r)
		}
		return err
	})
	return r, err
}

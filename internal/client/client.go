// Package client is the Go client of Varnet's API. The command line uses
// nothing else.
//
//	c := client.New("http://127.0.0.1:8025", key)
//	l, err := c.Import(ctx, client.File{Name: "members.csv", Body: f})
//	r, err := c.StartRun(ctx, l.ID, contract.NewRun{})
//	r, err = c.Wait(ctx, r.ID, func(contract.Run) {})
//	err = c.ExportFile(ctx, r.ID, contract.ExportChoice{}, out)
package client

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"varnet/core/outbound"
	"varnet/core/policy"
	"varnet/internal/contract"
)

// Client calls one service with one key.
type Client struct {
	base string
	key  string
	http *http.Client
}

// New makes a client of the service at base, such as http://127.0.0.1:8025.
func New(base, key string) *Client {
	return &Client{base: strings.TrimRight(base, "/") + "/api/v1", key: key, http: &http.Client{}}
}

// Problem is an error that the service told (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
	// Missing is what was asked for and is not there, such as lists/99.
	Missing string `json:"-"`
}

func (p *Problem) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
	}
	if p.Missing != "" {
		s = p.Missing + ": " + s
	}
	for _, e := range p.Errors {
		s += fmt.Sprintf("; %s: %s", e.Location, e.Message)
	}
	return s
}

// File is a file on its way in.
type File struct {
	Name string // the file's name
	List string // the list's name; the file's name unless given
	Body io.Reader
	// AddressColumns overrules the guess, counted from 0, in the order in which
	// they are to be used.
	AddressColumns []int
	// SameMailbox tells duplicates by what operators take for the same mailbox.
	SameMailbox bool
	// Key brings the list in once. With a Body that can be read anywhere and its
	// Size, a file is sent part by part, and a part that is lost is sent again.
	Key  string
	Size int64
	// Again brings the file in for a list that is there, in a Mode (append,
	// replace, update); RowKey is the column by which an update finds rows again.
	Again        int64
	Mode, RowKey string
	// Written overrules how the file is read: the operation's query (sheet,
	// delimiter, quote, encoding, header).
	Written url.Values
}

// Import brings a file in as a list.
func (c *Client) Import(ctx context.Context, f File) (l contract.List, err error) {
	q := url.Values{"fileName": {f.Name}, "name": {f.List},
		"sameMailbox": {strconv.FormatBool(f.SameMailbox)}}
	if len(f.AddressColumns) > 0 {
		q.Set("addressColumns", strings.Trim(strings.ReplaceAll(fmt.Sprint(f.AddressColumns), " ", ","), "[]"))
	}
	for name, value := range map[string]string{"key": f.Key, "mode": f.Mode, "rowKey": f.RowKey} {
		if value != "" {
			q.Set(name, value)
		}
	}
	for name, values := range f.Written {
		q[name] = values
	}
	body := f.Body
	if at, ok := f.Body.(io.ReaderAt); ok && f.Key != "" && f.Size > 0 {
		if err := c.upload(ctx, f, at); err != nil {
			return l, err
		}
		body = nil
	}
	path := "/lists?"
	if f.Again > 0 {
		path = fmt.Sprintf("/lists/%d/imports?", f.Again)
	}
	return l, c.call(ctx, http.MethodPost, path+q.Encode(), orEmpty(body), &l)
}

// orEmpty is a body, or one with nothing in it.
func orEmpty(body io.Reader) io.Reader {
	if body == nil {
		return http.NoBody
	}
	return body
}

const (
	// uploadPart is how much of a file is sent at a time.
	uploadPart = 4 << 20
	// uploadTries is how often a part is sent in vain before it is given up.
	uploadTries = 6
)

// upload sends a file part by part under its key, from where it stands.
func (c *Client) upload(ctx context.Context, f File, body io.ReaderAt) error {
	path, tries := "/uploads/"+url.PathEscape(f.Key), 0
	for {
		var u contract.Upload
		err := c.call(ctx, http.MethodPut, path, contract.NewUpload{Size: f.Size}, &u)
		for err == nil && u.Received < f.Size {
			part := io.NewSectionReader(body, u.Received, min(uploadPart, f.Size-u.Received))
			if err = c.call(ctx, http.MethodPatch, fmt.Sprintf("%s?from=%d", path, u.Received), part, &u); err == nil {
				tries = 0
			}
		}
		var told *Problem
		if err == nil || errors.As(err, &told) && told.Status < 500 && told.Status != http.StatusConflict {
			return err
		}
		if tries++; tries > uploadTries {
			return fmt.Errorf("the file was sent in vain %d times: %w", uploadTries, err)
		}
		select {
		case <-time.After(time.Duration(tries) * time.Second):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Preview tells what a file looks like.
func (c *Client) Preview(ctx context.Context, f File) (p contract.Preview, err error) {
	return p, c.call(ctx, http.MethodPost, "/previews?"+f.Written.Encode(), f.Body, &p)
}

// Problems writes the rows of a list that are not a plain address of their own.
func (c *Client) Problems(ctx context.Context, list int64, out io.Writer) error {
	return c.download(ctx, fmt.Sprintf("/lists/%d/problems", list), out)
}

// Common tells how many addresses of a list stand in another one, too.
func (c *Client) Common(ctx context.Context, list, other int64) (k contract.Common, err error) {
	return k, c.call(ctx, http.MethodGet, fmt.Sprintf("/lists/%d/common?with=%d", list, other), nil, &k)
}

// Lists returns a page of lists.
func (c *Client) Lists(ctx context.Context, q contract.ListQuery) (p contract.Page[contract.List], err error) {
	return p, c.call(ctx, http.MethodGet, "/lists?"+contract.Query(q).Encode(), nil, &p)
}

// List returns one list.
func (c *Client) List(ctx context.Context, id int64) (l contract.List, err error) {
	return l, c.call(ctx, http.MethodGet, fmt.Sprintf("/lists/%d", id), nil, &l)
}

// Estimate tells from a sample what a list will come to; it takes up to half a
// minute.
func (c *Client) Estimate(ctx context.Context, list int64) (e contract.Estimate, err error) {
	return e, c.call(ctx, http.MethodPost, fmt.Sprintf("/lists/%d/estimate", list), nil, &e)
}

// DeleteList deletes a list with its runs, results and evidence.
func (c *Client) DeleteList(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/lists/%d", id))
}

// Override decides about addresses of a list, whatever the policy says:
// keep, hold, drop, or policy to leave them to it again.
func (c *Client) Override(ctx context.Context, list int64, which contract.Override) (done contract.Overridden, err error) {
	return done, c.call(ctx, http.MethodPost, fmt.Sprintf("/lists/%d/overrides", list), which, &done)
}

// ChangeList changes what a list is called, for how long it is kept, whether it is archived.
func (c *Client) ChangeList(ctx context.Context, list int64, change contract.ListChange) (l contract.List, err error) {
	return l, c.call(ctx, http.MethodPatch, fmt.Sprintf("/lists/%d", list), change, &l)
}

// TryCatalogue tells what entries would alter.
func (c *Client) TryCatalogue(ctx context.Context, entries ...contract.CatalogueEntry) (e contract.CatalogueEffect, err error) {
	return e, c.call(ctx, http.MethodPost, "/catalogue/try", contract.CatalogueEntries{Entries: entries}, &e)
}

// Workers returns the processes that work on runs.
func (c *Client) Workers(ctx context.Context) (w []contract.Worker, err error) {
	return items[contract.Worker](ctx, c, http.MethodGet, "/workers", nil)
}

// DrainWorker tells a worker to take nothing new and come to its end.
func (c *Client) DrainWorker(ctx context.Context, id string) error {
	resp, err := c.do(ctx, http.MethodPost, "/workers/"+url.PathEscape(id)+"/drain", nil)
	if err == nil {
		err = resp.Body.Close()
	}
	return err
}

// SetRetention changes for how many days lists are kept that have no days of their own.
func (c *Client) SetRetention(ctx context.Context, days int) (k contract.Retention, err error) {
	return k, c.call(ctx, http.MethodPut, "/retention", contract.Retention{Days: days}, &k)
}

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

// Results returns a page of results; filter holds the operation's query.
func (c *Client) Results(ctx context.Context, run int64, filter url.Values) (p contract.Page[contract.Result], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/results?%s", run, filter.Encode()), nil, &p)
}

// AllResults returns all results of a run that match a filter.
func (c *Client) AllResults(ctx context.Context, run int64, filter url.Values) ([]contract.Result, error) {
	q := url.Values{"limit": {"500"}}
	maps.Copy(q, filter)
	return every[contract.Result](ctx, c, fmt.Sprintf("/runs/%d/results", run), q)
}

// Matching counts the results that fit a filter, up to 10,000 of them.
func (c *Client) Matching(ctx context.Context, run int64, filter url.Values) (f contract.Matching, err error) {
	return f, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/matching?%s", run, filter.Encode()), nil, &f)
}

// OverrideMatching decides about all addresses whose results fit a filter, as
// Override does.
func (c *Client) OverrideMatching(ctx context.Context, run int64, filter url.Values, d policy.Decision) (done contract.Overridden, err error) {
	return done, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/overrides?%s", run, filter.Encode()), contract.OverrideMatching{Decision: d}, &done)
}

// AskMatching asks again about all addresses of a finished run whose results fit
// a filter.
func (c *Client) AskMatching(ctx context.Context, run int64, filter url.Values) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/ask-again?%s", run, filter.Encode()), contract.AskAgain{}, &r)
}

// RunOperators returns a page of the operators of a run's domains; page holds the
// operation's query.
func (c *Client) RunOperators(ctx context.Context, run int64, page url.Values) (p contract.Page[contract.OperatorCount], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/operators?%s", run, page.Encode()), nil, &p)
}

// Evidence returns one result with all that was seen.
func (c *Client) Evidence(ctx context.Context, run int64, address int32) (e contract.Evidence, err error) {
	return e, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/results/%d", run, address), nil, &e)
}

// Compare tells what changed from another run of the same list to this one.
func (c *Client) Compare(ctx context.Context, run, other int64) (k contract.Comparison, err error) {
	return k, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/compare/%d", run, other), nil, &k)
}

// Domains returns the largest domains of a run's list with a text in their name, at
// most 200.
func (c *Client) Domains(ctx context.Context, run int64, search string) (d []contract.DomainCount, err error) {
	return items[contract.DomainCount](ctx, c, http.MethodGet, fmt.Sprintf("/runs/%d/domains?limit=200&search=%s", run, url.QueryEscape(search)), nil)
}

// Check checks addresses now.
func (c *Client) Check(ctx context.Context, addresses []string) (e []contract.Evidence, err error) {
	return items[contract.Evidence](ctx, c, http.MethodPost, "/checks", contract.Addresses{Addresses: addresses})
}

// Catalogue returns the workspace's own catalogue entries.
func (c *Client) Catalogue(ctx context.Context) ([]contract.CatalogueEntry, error) {
	return every[contract.CatalogueEntry](ctx, c, "/catalogue", url.Values{"limit": {"500"}})
}

// AddToCatalogue adds entries and returns them in their normal form.
func (c *Client) AddToCatalogue(ctx context.Context, entries []contract.CatalogueEntry) ([]contract.CatalogueEntry, error) {
	var added contract.CatalogueEntries
	err := c.call(ctx, http.MethodPost, "/catalogue", contract.CatalogueEntries{Entries: entries}, &added)
	return added.Entries, err
}

// CatalogueSources returns the catalogues that the workspace follows.
func (c *Client) CatalogueSources(ctx context.Context) (s []contract.CatalogueSource, err error) {
	return items[contract.CatalogueSource](ctx, c, http.MethodGet, "/catalogue/sources", nil)
}

// FollowCatalogue follows a catalogue: it is read now and every day.
func (c *Client) FollowCatalogue(ctx context.Context, n contract.NewCatalogueSource) (s contract.CatalogueSource, err error) {
	return s, c.call(ctx, http.MethodPost, "/catalogue/sources", n, &s)
}

// ReadCatalogueSource reads a followed catalogue now.
func (c *Client) ReadCatalogueSource(ctx context.Context, id int64) (s contract.CatalogueSource, err error) {
	return s, c.call(ctx, http.MethodPost, fmt.Sprintf("/catalogue/sources/%d/read", id), nil, &s)
}

// UnfollowCatalogue follows a catalogue no longer.
func (c *Client) UnfollowCatalogue(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/catalogue/sources/%d", id))
}

// DeleteFromCatalogue takes an entry back.
func (c *Client) DeleteFromCatalogue(ctx context.Context, kind, name string) error {
	return c.remove(ctx, "/catalogue/"+url.PathEscape(kind)+"/"+url.PathEscape(name))
}

// remove deletes what is at a path.
func (c *Client) remove(ctx context.Context, path string) error {
	resp, err := c.do(ctx, http.MethodDelete, path, nil)
	if err == nil {
		_ = resp.Body.Close()
	}
	return err
}

// Readiness reports whether outbound is ready.
func (c *Client) Readiness(ctx context.Context) (s contract.Readiness, err error) {
	return s, c.call(ctx, http.MethodGet, "/outbound/readiness", nil, &s)
}

// Outbound returns outbound as it stands.
func (c *Client) Outbound(ctx context.Context) (s contract.Outbound, err error) {
	return s, c.call(ctx, http.MethodGet, "/outbound", nil, &s)
}

// TestOutbound tests all of outbound.
func (c *Client) TestOutbound(ctx context.Context) (s contract.Outbound, err error) {
	return s, c.call(ctx, http.MethodPost, "/outbound/test", nil, &s)
}

// AddParts adds parts of outbound, one a line, and tests the whole.
func (c *Client) AddParts(ctx context.Context, kind outbound.Kind, lines string) (s contract.Outbound, err error) {
	return s, c.call(ctx, http.MethodPost, "/outbound/parts", contract.NewParts{Kind: kind, Lines: lines}, &s)
}

// RemovePart removes a part of outbound.
func (c *Client) RemovePart(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/outbound/parts/%d", id))
}

// RemoveFailed removes the parts of a kind that failed their last test.
func (c *Client) RemoveFailed(ctx context.Context, kind outbound.Kind) (r contract.Removed, err error) {
	return r, c.call(ctx, http.MethodPost, "/outbound/parts/remove-failed?kind="+url.QueryEscape(string(kind)), nil, &r)
}

// SetOutbound changes what holds for all of outbound.
func (c *Client) SetOutbound(ctx context.Context, n contract.OutboundSettings) (s contract.Outbound, err error) {
	return s, c.call(ctx, http.MethodPut, "/outbound/settings", n, &s)
}

// SetRules replaces the rules.
func (c *Client) SetRules(ctx context.Context, rules []contract.Rule) (s contract.Outbound, err error) {
	return s, c.call(ctx, http.MethodPut, "/outbound/rules", contract.Rules{Rules: rules}, &s)
}

// TryRules tells which rule fits an address.
func (c *Client) TryRules(ctx context.Context, address string) (t contract.Tried, err error) {
	return t, c.call(ctx, http.MethodPost, "/outbound/rules/try", contract.OneAddress{Address: address}, &t)
}

// Operators tells what was learnt about operators with a text in their name.
func (c *Client) Operators(ctx context.Context, search string) (o []contract.OperatorPace, err error) {
	return items[contract.OperatorPace](ctx, c, http.MethodGet, "/outbound/operators?search="+url.QueryEscape(search), nil)
}

// ForgetOperator forgets what was learnt about an operator.
func (c *Client) ForgetOperator(ctx context.Context, name string) error {
	return c.remove(ctx, "/outbound/operators/"+url.PathEscape(name))
}

// Policies returns the policies, the ready-made ones first.
func (c *Client) Policies(ctx context.Context) (p []contract.KnownPolicy, err error) {
	return items[contract.KnownPolicy](ctx, c, http.MethodGet, "/policies", nil)
}

// Policy returns one policy as it stands now.
func (c *Client) Policy(ctx context.Context, name string) (p contract.KnownPolicy, err error) {
	return p, c.call(ctx, http.MethodGet, "/policies/"+url.PathEscape(name), nil, &p)
}

// SavePolicy saves a policy of one's own.
func (c *Client) SavePolicy(ctx context.Context, p contract.Policy) (saved contract.KnownPolicy, err error) {
	return saved, c.call(ctx, http.MethodPut, "/policies/"+url.PathEscape(p.Name), p, &saved)
}

// DeletePolicy deletes a policy of one's own.
func (c *Client) DeletePolicy(ctx context.Context, name string) error {
	return c.remove(ctx, "/policies/"+url.PathEscape(name))
}

// TryPolicy tells what a policy would do with the rows of a run.
func (c *Client) TryPolicy(ctx context.Context, run int64, p contract.Policy) (t contract.Trial, err error) {
	return t, c.call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/try", run), p, &t)
}

// Decide lets another policy decide on a run.
func (c *Client) Decide(ctx context.Context, run int64, policy string) (r contract.Run, err error) {
	return r, c.call(ctx, http.MethodPut, fmt.Sprintf("/runs/%d/policy", run), contract.PolicyChoice{Name: policy}, &r)
}

// ExportPreview says what a file would hold.
func (c *Client) ExportPreview(ctx context.Context, run int64, how contract.ExportChoice) (t contract.ExportPreview, err error) {
	return t, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/export?%s", run, contract.Query(how).Encode()), nil, &t)
}

// ExportFile writes the rows.
func (c *Client) ExportFile(ctx context.Context, run int64, how contract.ExportChoice, out io.Writer) error {
	return c.download(ctx, fmt.Sprintf("/runs/%d/export/file?%s", run, contract.Query(how).Encode()), out)
}

// Report writes the one-page report of a run, as pdf or html, with times in a
// zone.
func (c *Client) Report(ctx context.Context, run int64, format, zone string, out io.Writer) error {
	return c.download(ctx, fmt.Sprintf("/runs/%d/report?%s", run, url.Values{"format": {format}, "zone": {zone}}.Encode()), out)
}

// downloadTries is how often a broken download is taken up again.
const downloadTries = 5

// download writes what a path gives. One that breaks off is taken up again
// where it broke, as long as the service tells that the file is still the same.
func (c *Client) download(ctx context.Context, path string, out io.Writer) error {
	written, tag := int64(0), ""
	for try := 1; ; try++ {
		n, got, err := c.downloadFrom(ctx, path, written, tag, out)
		written, tag = written+n, cmp.Or(tag, got)
		var told *Problem
		if err == nil || tag == "" || try > downloadTries || ctx.Err() != nil || errors.As(err, &told) {
			return err
		}
	}
}

// downloadFrom writes what a path gives from a byte on.
func (c *Client) downloadFrom(ctx context.Context, path string, from int64, tag string, out io.Writer) (n int64, got string, err error) {
	header := http.Header{}
	if from > 0 {
		header.Set("Range", fmt.Sprintf("bytes=%d-", from))
		header.Set("If-Range", tag)
	}
	resp, err := c.doWith(ctx, http.MethodGet, path, nil, header)
	if err != nil {
		return 0, "", err
	}
	defer resp.Body.Close()
	if from > 0 && resp.StatusCode != http.StatusPartialContent {
		return 0, "", &Problem{Status: resp.StatusCode, Detail: "The file broke off on its way, and the run has changed since. Take it out again."}
	}
	if n, err = io.Copy(out, resp.Body); err != nil {
		err = fmt.Errorf("the file broke off on its way: %w", err)
	}
	return n, resp.Header.Get("ETag"), err
}

// Wait follows a run until it ends and calls seen with each news of it. It
// outlasts restarts of the service.
func (c *Client) Wait(ctx context.Context, id int64, seen func(contract.Run)) (contract.Run, error) {
	for {
		r, err := c.follow(ctx, id, seen)
		if err == nil && r.FinishedAt != nil {
			return r, nil
		}
		var p *Problem
		if errors.As(err, &p) && p.Status < 500 || ctx.Err() != nil {
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

// Watch calls seen with what changes in the workspace, from the moment when ready is called,
// until ctx ends or the stream breaks off.
func (c *Client) Watch(ctx context.Context, ready func(), seen func(contract.WorkspaceChange)) error {
	begun := false
	return c.events(ctx, "/events", func(name string, data []byte) error {
		if name != "change" {
			if !begun {
				ready()
			}
			begun = true
			return nil
		}
		var change contract.WorkspaceChange
		err := json.Unmarshal(data, &change)
		if err == nil {
			seen(change)
		}
		return err
	})
}

// mostEvent bounds one event of a stream, in bytes.
const mostEvent = 1 << 20

// events calls seen with each event of a stream until it ends.
func (c *Client) events(ctx context.Context, path string, seen func(name string, data []byte) error) error {
	resp, err := c.do(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines, name := bufio.NewScanner(resp.Body), ""
	lines.Buffer(nil, mostEvent)
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch field {
		case "":
			name = ""
		case "event":
			name = value
		case "data":
			if err := seen(name, []byte(value)); err != nil {
				return fmt.Errorf("an event of the service is not understood: %w", err)
			}
		}
	}
	return lines.Err()
}

// items returns what is on the page that an operation answers with.
func items[T any](ctx context.Context, c *Client, method, path string, body any) ([]T, error) {
	var page contract.Page[T]
	err := c.call(ctx, method, path, body, &page)
	return page.Items, err
}

// every returns what is on all pages of an operation.
func every[T any](ctx context.Context, c *Client, path string, query url.Values) (all []T, err error) {
	for {
		var page contract.Page[T]
		if err := c.call(ctx, http.MethodGet, path+"?"+query.Encode(), nil, &page); err != nil {
			return nil, err
		}
		if all = append(all, page.Items...); page.Next == "" {
			return all, nil
		}
		query.Set("cursor", page.Next)
	}
}

// call sends a body (a reader as it is, anything else as JSON) and reads the answer into out.
func (c *Client) call(ctx context.Context, method, path string, body, out any) error {
	resp, err := c.do(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("the service's answer is not understood: %w", err)
	}
	return nil
}

func (c *Client) do(ctx context.Context, method, path string, body any) (*http.Response, error) {
	return c.doWith(ctx, method, path, body, http.Header{})
}

func (c *Client) doWith(ctx context.Context, method, path string, body any, header http.Header) (*http.Response, error) {
	reader, kind, err := encode(body)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, reader)
	if err != nil {
		return nil, err
	}
	req.Header = header
	req.Header.Set("Authorization", "Bearer "+c.key)
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("the service at %s cannot be reached; is it running, and is -server (VARNET_SERVER) right? (%w)",
			strings.TrimSuffix(c.base, "/api/v1"), unwrapURL(err))
	}
	if resp.StatusCode >= 300 {
		defer resp.Body.Close()
		p := &Problem{Status: resp.StatusCode, Title: resp.Status}
		_ = json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(p)
		if resp.StatusCode == http.StatusNotFound {
			p.Missing, _, _ = strings.Cut(strings.TrimPrefix(path, "/"), "?")
		}
		return nil, p
	}
	return resp, nil
}

func encode(body any) (io.Reader, string, error) {
	switch b := body.(type) {
	case nil:
		return nil, "", nil
	case io.Reader:
		return b, "application/octet-stream", nil
	}
	text, err := json.Marshal(body)
	return bytes.NewReader(text), "application/json", err
}

// unwrapURL takes off the method and address that net/http puts in front.
func unwrapURL(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

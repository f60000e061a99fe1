package client

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"

	"varnet/core/policy"
	"varnet/internal/contract"
)

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

// Evidence returns one result with all that was seen.
func (c *Client) Evidence(ctx context.Context, run int64, address int32) (e contract.Evidence, err error) {
	return e, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/results/%d", run, address), nil, &e)
}

// Check checks addresses now.
func (c *Client) Check(ctx context.Context, addresses []string) (e []contract.Evidence, err error) {
	return items[contract.Evidence](ctx, c, http.MethodPost, "/checks", contract.Addresses{Addresses: addresses})
}

// ExportPreview says what a file would hold.
func (c *Client) ExportPreview(ctx context.Context, run int64, how contract.ExportChoice) (t contract.ExportPreview, err error) {
	return t, c.call(ctx, http.MethodGet, fmt.Sprintf("/runs/%d/export?%s", run, contract.Query(how).Encode()), nil, &t)
}

// ExportFile writes the rows.
func (c *Client) ExportFile(ctx context.Context, run int64, how contract.ExportChoice, out io.Writer) error {
	return c.download(ctx, fmt.Sprintf("/runs/%d/export/file?%s", run, contract.Query(how).Encode()), out)
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
		var own *writeError
		if err == nil || tag == "" || try > downloadTries || ctx.Err() != nil || errors.As(err, &told) || errors.As(err, &own) {
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
		return 0, "", &Problem{Status: resp.StatusCode, Detail: "The file broke off on its way, and the run has changed since. Export it again."}
	}
	n, err = io.Copy(writing{out}, resp.Body)
	var own *writeError
	if err != nil && !errors.As(err, &own) {
		err = fmt.Errorf("the transfer of the file broke off: %w", err)
	}
	return n, resp.Header.Get("ETag"), err
}

// writeError tells that what came could not be written: asking for it once more helps nobody.
type writeError struct{ err error }

func (w *writeError) Error() string { return "the file cannot be written: " + w.err.Error() }

func (w *writeError) Unwrap() error { return w.err }

// writing tells faults of the writer from those of the way.
type writing struct{ to io.Writer }

func (w writing) Write(p []byte) (int, error) {
	n, err := w.to.Write(p)
	if err != nil {
		err = &writeError{err}
	}
	return n, err
}

package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"varnet/internal/contract"
)

// File is a file on its way in.
type File struct {
	Name string // the file's name
	List string // the list's name; the file's name unless given
	Body io.Reader
	// AddressColumns overrules the guess, counted from 0, in the order in which
	// they are to be used.
	AddressColumns []int
	// Holds is what columns hold, as COLUMN=first-name or COLUMN=activity:ordered.
	Holds []string
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
	if len(f.Holds) > 0 {
		q["holds"] = f.Holds
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
			return fmt.Errorf("the file was sent %d times without success: %w", uploadTries, err)
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

// SetRetention changes for how many days lists are kept that have no days of their own.
func (c *Client) SetRetention(ctx context.Context, days int) (k contract.Retention, err error) {
	return k, c.call(ctx, http.MethodPut, "/retention", contract.Retention{Days: days}, &k)
}

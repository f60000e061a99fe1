// Package client is the Go client of Varnet's API. The command line uses nothing else; the
// examples show how a program does.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"varnet/internal/contract"
)

// Client calls one service with one key, or with the token of a device that a person let in.
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
		if e.Message == "" { // it is for programs
			continue
		}
		s += fmt.Sprintf("; %s: %s", e.Location, e.Message)
	}
	return s
}

// remove deletes what is at a path.
func (c *Client) remove(ctx context.Context, path string) error {
	resp, err := c.do(ctx, http.MethodDelete, path, nil)
	if err == nil {
		_ = resp.Body.Close()
	}
	return err
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
	return answered(resp, out)
}

// answered reads what the service answers into out; nil: nothing is wanted of it.
func answered(resp *http.Response, out any) error {
	defer resp.Body.Close()
	if out == nil {
		return nil
	}
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

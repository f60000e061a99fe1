package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"varnet/internal/contract"
)

// ActivityFile is a file of events: which columns hold what, from 1 (0: found by itself), what was seen
// where none says so, and its name.
type ActivityFile struct {
	Address, At, What int
	Kind, Name        string
}

// ImportActivity imports a file of events.
func (c *Client) ImportActivity(ctx context.Context, f ActivityFile, file io.Reader) (t contract.ImportedActivity, err error) {
	q := url.Values{}
	for name, n := range map[string]int{"address": f.Address, "at": f.At, "what": f.What} {
		if n > 0 {
			q.Set(name, strconv.Itoa(n))
		}
	}
	for name, text := range map[string]string{"kind": f.Kind, "name": f.Name} {
		if text != "" {
			q.Set(name, text)
		}
	}
	return t, c.call(ctx, http.MethodPost, "/activity?"+q.Encode(), file, &t)
}

// ListActivity returns when something was seen of the addresses of a list last.
func (c *Client) ListActivity(ctx context.Context, list int64) (a contract.ListActivity, err error) {
	return a, c.call(ctx, http.MethodGet, fmt.Sprintf("/lists/%d/activity", list), nil, &a)
}

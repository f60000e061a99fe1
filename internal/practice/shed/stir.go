package shed

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"
)

// Stir has people join a group of a running platform, and others leave it: it calls the API as
// any program does.
func Stir(ctx context.Context, url, key, group string, join []Contact, leave int) error {
	c := caller{ctx, url, key}
	var page struct {
		Contacts []struct{ ID string }
	}
	if err := c.call(http.MethodGet, fmt.Sprintf("/groups/%s/contacts?limit=%d", group, max(1, 3*leave)), nil, &page); err != nil {
		return err
	}
	for n := range leave {
		if 3*n < len(page.Contacts) {
			if err := c.call(http.MethodDelete, "/contacts/"+page.Contacts[3*n].ID, nil, nil); err != nil {
				return err
			}
		}
	}
	for _, who := range join {
		if err := c.call(http.MethodPost, "/contacts", map[string]any{"contact": who, "groups": []string{group}}, nil); err != nil {
			return err
		}
	}
	return nil
}

// caller calls the API of a platform.
type caller struct {
	ctx      context.Context
	url, key string
}

func (c caller) call(method, path string, send, into any) error {
	var body bytes.Buffer
	if send != nil {
		if err := json.NewEncoder(&body).Encode(send); err != nil {
			return err
		}
	}
	r, err := http.NewRequestWithContext(c.ctx, method, c.url+path, &body)
	if err != nil {
		return err
	}
	r.Header.Set("Shed-Key", c.key)
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	switch {
	case resp.StatusCode == http.StatusTooManyRequests:
		select {
		case <-time.After(time.Second):
			return c.call(method, path, send, into)
		case <-c.ctx.Done():
			return c.ctx.Err()
		}
	case resp.StatusCode/100 != 2:
		said, _ := io.ReadAll(io.LimitReader(resp.Body, 1000)) // what is there of it is shown
		return fmt.Errorf("the contact platform answered %s: %s", resp.Status, said)
	case into == nil:
		return nil
	}
	return json.NewDecoder(resp.Body).Decode(into)
}

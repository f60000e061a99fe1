package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"varnet/internal/contract"
)

// EventKinds returns the registry of events.
func (c *Client) EventKinds(ctx context.Context) (p contract.Page[contract.EventKind], err error) {
	return p, c.call(ctx, http.MethodGet, "/event-kinds", nil, &p)
}

// Events returns a page of events with higher numbers than after, the oldest first.
func (c *Client) Events(ctx context.Context, after int64, limit int) (p contract.Page[contract.Event], err error) {
	q := url.Values{"after": {strconv.FormatInt(after, 10)}, "limit": {strconv.Itoa(limit)}}
	return p, c.call(ctx, http.MethodGet, "/event-log?"+q.Encode(), nil, &p)
}

// eventsAtOnce is how many events are read at a time; lookAgain is how soon after a stream broke
// off it is begun anew.
const (
	eventsAtOnce = 100
	lookAgain    = time.Second
)

// FollowEvents calls seen with every event after a number, in order and each once, as it is told,
// until ctx ends or seen fails; whatever breaks off meanwhile is begun anew.
func (c *Client) FollowEvents(ctx context.Context, after int64, seen func(contract.Event) error) error {
	over := false // what failed is not better the next time
	read := func() error {
		for {
			p, err := c.Events(ctx, after, eventsAtOnce)
			if err != nil {
				over = refusedForGood(err)
				return err
			}
			for _, e := range p.Items {
				if err := seen(e); err != nil {
					over = true
					return err
				}
				after = e.Seq
			}
			if len(p.Items) < eventsAtOnce {
				return nil
			}
		}
	}
	if err := read(); err != nil { // what is wrong from the beginning is told
		return err
	}
	for ctx.Err() == nil {
		var failed error
		watching, stop := context.WithCancel(ctx)
		look := func() {
			if failed = read(); failed != nil {
				stop()
			}
		}
		_ = c.Watch(watching, look, func(change contract.WorkspaceChange) {
			if failed == nil && (change.Kind == "event" || change.Kind == "everything") {
				look()
			}
		})
		stop()
		if over {
			return failed
		}
		select {
		case <-time.After(lookAgain):
		case <-ctx.Done():
		}
	}
	return ctx.Err()
}

// refusedForGood reports whether the service refused a call, and will again.
func refusedForGood(err error) bool {
	var p *Problem
	return errors.As(err, &p) && p.Status < 500 && p.Status != http.StatusTooManyRequests
}

// Notices returns what the person is told in the console.
func (c *Client) Notices(ctx context.Context) (n contract.Notices, err error) {
	return n, c.call(ctx, http.MethodGet, "/notices", nil, &n)
}

// ReadNotices records that notices were read.
func (c *Client) ReadNotices(ctx context.Context, which contract.NoticesRead) (n contract.Notices, err error) {
	return n, c.call(ctx, http.MethodPost, "/notices/read", which, &n)
}

// LetterWishes returns which letters the person wants.
func (c *Client) LetterWishes(ctx context.Context) (w contract.LetterWishes, err error) {
	return w, c.call(ctx, http.MethodGet, "/person/letters", nil, &w)
}

// SetLetterWishes chooses them.
func (c *Client) SetLetterWishes(ctx context.Context, w contract.LetterWishes) (now contract.LetterWishes, err error) {
	return now, c.call(ctx, http.MethodPut, "/person/letters", w, &now)
}

// Webhooks returns the webhooks of the workspace.
func (c *Client) Webhooks(ctx context.Context) (p contract.Page[contract.Webhook], err error) {
	return p, c.call(ctx, http.MethodGet, "/webhooks", nil, &p)
}

// MakeWebhook has an address told of events. The answer holds its secret, this once.
func (c *Client) MakeWebhook(ctx context.Context, n contract.NewWebhook) (w contract.Webhook, err error) {
	return w, c.call(ctx, http.MethodPost, "/webhooks", n, &w)
}

// ChangeWebhook changes a webhook.
func (c *Client) ChangeWebhook(ctx context.Context, id int64, change contract.WebhookChange) (w contract.Webhook, err error) {
	return w, c.call(ctx, http.MethodPatch, fmt.Sprintf("/webhooks/%d", id), change, &w)
}

// DeleteWebhook deletes a webhook with its log.
func (c *Client) DeleteWebhook(ctx context.Context, id int64) error {
	return c.remove(ctx, fmt.Sprintf("/webhooks/%d", id))
}

// RenewWebhookSecret gives a webhook another secret, which the answer holds.
func (c *Client) RenewWebhookSecret(ctx context.Context, id int64) (w contract.Webhook, err error) {
	return w, c.call(ctx, http.MethodPost, fmt.Sprintf("/webhooks/%d/secret", id), nil, &w)
}

// TestWebhook has a webhook called to try it out.
func (c *Client) TestWebhook(ctx context.Context, id int64) (w contract.Webhook, err error) {
	return w, c.call(ctx, http.MethodPost, fmt.Sprintf("/webhooks/%d/test", id), nil, &w)
}

// Deliveries returns a page of what was delivered to a webhook, the newest first.
func (c *Client) Deliveries(ctx context.Context, webhook int64, page contract.PageQuery) (p contract.Page[contract.Delivery], err error) {
	return p, c.call(ctx, http.MethodGet, fmt.Sprintf("/webhooks/%d/deliveries?", webhook)+contract.Query(page).Encode(), nil, &p)
}

// Delivery returns a delivery with its attempts.
func (c *Client) Delivery(ctx context.Context, id int64) (d contract.DeliveryLog, err error) {
	return d, c.call(ctx, http.MethodGet, fmt.Sprintf("/deliveries/%d", id), nil, &d)
}

// ResendDelivery delivers an event again, now.
func (c *Client) ResendDelivery(ctx context.Context, id int64) (d contract.DeliveryLog, err error) {
	return d, c.call(ctx, http.MethodPost, fmt.Sprintf("/deliveries/%d/resend", id), nil, &d)
}

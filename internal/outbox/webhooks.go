package outbox

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"varnet/core/event"
	"varnet/core/say"
	"varnet/internal/dial"
	"varnet/internal/store"
	"varnet/internal/webhook"
)

// Bounds of webhooks.
const (
	MostWebhooks = 20 // of a workspace
	callTimeout  = 15 * time.Second
	mostAnswer   = 4 << 10 // of an answer is kept
	bothFor      = 24 * time.Hour
	// failingFor is how long a webhook may take nothing before it is switched off.
	failingFor = 3 * 24 * time.Hour
)

// waits are between the attempts of a delivery, a day in all.
var waits = []time.Duration{5 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 4 * time.Hour, 6 * time.Hour, 10 * time.Hour}

// ErrMany tells that a workspace has as many webhooks as it may.
var ErrMany = fmt.Errorf("a workspace has at most %d webhooks; delete one first", MostWebhooks)

// CheckURL reports in a sentence why a webhook cannot be at an address.
func (o *Outbox) CheckURL(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.User != nil || u.Fragment != "" || strings.ContainsFunc(address, func(r rune) bool { return r <= ' ' || r == 0x7f }) {
		return fmt.Errorf("%q is not the address of a webhook; write one such as https://hooks.fernhollow.example/varnet, without a name, password or #", address)
	}
	if ip := net.ParseIP(u.Hostname()); u.Scheme != "https" && !(u.Scheme == "http" && o.AllowPrivate && ip != nil && ip.IsLoopback()) {
		return fmt.Errorf("a webhook is called over TLS: %q does not begin with https://", address)
	}
	return nil
}

const webhookPurpose = "webhook"

// NewWebhook makes a webhook and returns its secret.
func (o *Outbox) NewWebhook(ctx context.Context, workspace int64, address string, codes []event.Code) (w store.Webhook, secret string, err error) {
	there, err := o.Store.Webhooks(ctx, workspace)
	if err == nil && len(there) >= MostWebhooks {
		err = ErrMany
	}
	if err != nil {
		return w, "", err
	}
	secret = webhook.NewSecret()
	w, err = o.Store.NewWebhook(ctx, workspace, address, codes, o.Secrets.Seal(secret, webhookPurpose))
	return w, secret, err
}

// NewSecret gives a webhook another secret and returns it. For a day both sign, so that the
// receiver can be told in its own time.
func (o *Outbox) NewSecret(ctx context.Context, workspace, id int64) (secret string, err error) {
	secret = webhook.NewSecret()
	return secret, o.Store.SetWebhookSecret(ctx, workspace, id, o.Secrets.Seal(secret, webhookPurpose), time.Now().Add(bothFor))
}

// Reseal seals the secrets of webhooks with the present secret, and returns how many there are.
func (o *Outbox) Reseal(ctx context.Context) (n int, err error) {
	for _, which := range []store.Sealed{store.WebhookSecrets, store.WebhookSecretsBefore} {
		some, err := o.Store.Reseal(ctx, which, func(_ string, sealed []byte) ([]byte, error) { return o.Secrets.Reseal(sealed, webhookPurpose) })
		if n += some; err != nil {
			return n, err
		}
	}
	return n, nil
}

// webhooksFor returns the webhooks that are told of an event.
func (o *Outbox) webhooksFor(ctx context.Context, e store.Event) (ids []int64, err error) {
	if e.WorkspaceID == nil || e.PersonID != nil {
		return nil, nil
	}
	all, err := o.Store.Webhooks(ctx, *e.WorkspaceID)
	for _, w := range all {
		if e.Code == event.WebhookTest && w.ID == e.Data.WebhookID || w.OffAt == nil && slices.Contains(w.Codes, e.Code) {
			ids = append(ids, w.ID)
		}
	}
	return ids, err
}

// Delivered is what came of an attempt.
type Delivered struct {
	// Ended: it was taken, or given up; the next delivery about the same thing may go.
	Ended bool
	Wait  time.Duration // until the next attempt
	// Off is why the webhook is to be switched off; "" while it is not.
	Off string
}

// Deliver makes the next attempt of a delivery, and records it.
func (o *Outbox) Deliver(ctx context.Context, w store.Webhook, d store.Delivery) (done Delivered, err error) {
	e, err := o.Store.Event(ctx, d.Seq)
	if err != nil {
		return done, err
	}
	a := store.Attempt{Number: d.Attempts + 1, At: time.Now()}
	after := o.call(ctx, w, e, &a)
	a.TookMS = int(time.Since(a.At).Milliseconds())
	if ctx.Err() != nil {
		return done, ctx.Err() // we stop; it is tried anew
	}
	state, next := store.DeliveryDelivered, (*time.Time)(nil)
	switch {
	case a.Problem == "":
		done.Ended = true
	case d.Attempts >= len(waits):
		state, done.Ended = store.DeliveryFailed, true
	default:
		state, done.Wait = store.DeliveryWaiting, max(after, waits[d.Attempts])
		at := time.Now().Add(done.Wait)
		next = &at
	}
	switch {
	case a.Status == http.StatusGone:
		done.Off = "It answered 410 Gone: the receiver no longer wants calls."
	case a.Problem != "" && w.FailingSince != nil && time.Since(*w.FailingSince) > failingFor:
		done.Off = fmt.Sprintf("It accepted nothing for %d days. Last: %s", int(failingFor.Hours()/24), a.Problem)
	}
	return done, o.Store.AddAttempt(ctx, d, a, state, next)
}

// call makes the call, fills in what came of it, and returns how long its receiver asked us to
// wait.
func (o *Outbox) call(ctx context.Context, w store.Webhook, e store.Event, a *store.Attempt) (after time.Duration) {
	req, err := o.request(w, e, a)
	if err != nil {
		a.Problem = err.Error()
		return 0
	}
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	resp, err := dial.Web(o.AllowPrivate, nil).Do(req.WithContext(ctx))
	if err != nil {
		a.Problem = "It could not be reached: " + shown(cmp.Or(errors.Unwrap(err), err).Error())
		if ctx.Err() != nil {
			a.Problem = fmt.Sprintf("No answer came within %v.", callTimeout)
		}
		return 0
	}
	defer resp.Body.Close()
	a.Status = resp.StatusCode
	text, err := io.ReadAll(io.LimitReader(resp.Body, mostAnswer))
	a.Answer = shown(string(text))
	switch {
	case resp.StatusCode/100 == 3:
		a.Problem = "It answered " + shown(resp.Status) + ". Redirects are not followed; give the address that it leads to."
	case resp.StatusCode/100 != 2:
		a.Problem = "It answered " + shown(resp.Status) + "."
	case err != nil && ctx.Err() != nil:
		a.Problem = fmt.Sprintf("Its answer did not come to an end within %v.", callTimeout)
	}
	return retryAfter(resp.Header.Get("Retry-After"))
}

// request is the signed call.
func (o *Outbox) request(w store.Webhook, e store.Event, a *store.Attempt) (*http.Request, error) {
	body, err := json.Marshal(Notice(e))
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequest(http.MethodPost, w.URL, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	secrets, err := o.secretsOf(w)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("User-Agent", "Varnet")
	if err := webhook.Sign(req.Header, e.ID, a.At, body, secrets...); err != nil {
		return nil, err
	}
	var head strings.Builder
	_ = req.Header.Write(&head)
	a.Request = "POST " + w.URL + "\n" + strings.ReplaceAll(head.String(), "\r\n", "\n") + "\n" + string(body)
	return req, nil
}

// secretsOf returns the secrets by which calls are signed.
func (o *Outbox) secretsOf(w store.Webhook) (out []string, err error) {
	sealed := [][]byte{w.Sealed}
	if w.Before != nil && w.BeforeUntil != nil && time.Now().Before(*w.BeforeUntil) {
		sealed = append(sealed, w.Before)
	}
	for _, s := range sealed {
		text, err := o.Secrets.Open(s, webhookPurpose)
		if err != nil {
			return nil, fmt.Errorf("the secret of the webhook cannot be opened; give it a new one (%w)", err)
		}
		out = append(out, text)
	}
	return out, nil
}

// retryAfter reads for how long somebody asked us to wait, at most a day (RFC 9110, 10.2.3).
func retryAfter(text string) time.Duration {
	if seconds, err := strconv.Atoi(text); err == nil && seconds > 0 {
		return min(time.Duration(seconds)*time.Second, 24*time.Hour)
	}
	if at, err := http.ParseTime(text); err == nil {
		return min(max(0, time.Until(at)), 24*time.Hour)
	}
	return 0
}

// shown makes what came from outside safe to be kept and shown.
func shown(text string) string { return say.Clip(say.Outside(text), 2*mostAnswer) }

// HostOf returns the host of an address, which is what people call a webhook by.
func HostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	return u.Host
}

// WebhookSays returns how a webhook is, in a sentence.
func WebhookSays(w store.Webhook) string {
	switch {
	case w.OffAt != nil && w.OffWhy != "":
		return "Switched off. " + w.OffWhy
	case w.OffAt != nil:
		return "Switched off."
	case w.FailingSince != nil:
		return fmt.Sprintf("On, but it has accepted nothing since %s.", w.FailingSince.UTC().Format("2 January 2006, 15:04 MST"))
	}
	return "On."
}

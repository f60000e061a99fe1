package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
)

// Webhook is an address that is told of events by signed calls.
type Webhook struct {
	ID          int64
	WorkspaceID int64
	URL         string
	Codes       []event.Code
	Sealed      []byte // its secret
	Before      []byte // the one before, while both sign; nil: none
	BeforeUntil *time.Time
	// FailingSince is since when nothing was taken; nil: the last delivery was.
	FailingSince *time.Time
	OffAt        *time.Time // nil: it is on
	OffWhy       string
	CreatedAt    time.Time
}

const webhookColumns = "id, workspace_id, url, codes, sealed, before, before_until, failing_since, off_at, off_why, created_at"

// NewWebhook records a webhook.
func (s *Store) NewWebhook(ctx context.Context, workspace int64, url string, codes []event.Code, sealed []byte) (Webhook, error) {
	return one[Webhook](ctx, s.db, "INSERT INTO webhook (workspace_id, url, codes, sealed) VALUES ($1, $2, $3, $4) RETURNING "+webhookColumns, workspace, url, codes, sealed)
}

// Webhooks returns the webhooks of a workspace, the oldest first.
func (s *Store) Webhooks(ctx context.Context, workspace int64) ([]Webhook, error) {
	return many[Webhook](ctx, s.db, "SELECT "+webhookColumns+" FROM webhook WHERE workspace_id = $1 ORDER BY id", workspace)
}

// Webhook returns a webhook of a workspace.
func (s *Store) Webhook(ctx context.Context, workspace, id int64) (Webhook, error) {
	return one[Webhook](ctx, s.db, "SELECT "+webhookColumns+" FROM webhook WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// WebhookByID returns a webhook to the job that delivers to it.
func (s *Store) WebhookByID(ctx context.Context, id int64) (Webhook, error) {
	return one[Webhook](ctx, s.db, "SELECT "+webhookColumns+" FROM webhook WHERE id = $1", id)
}

// ChangeWebhook changes where a webhook is, what it is told of, and whether it is on.
func (s *Store) ChangeWebhook(ctx context.Context, workspace, id int64, url string, codes []event.Code, on bool) error {
	return s.changed(ctx, `UPDATE webhook SET url = $3, codes = $4, failing_since = CASE WHEN $5 AND off_at IS NOT NULL THEN NULL ELSE failing_since END,
			off_at = CASE WHEN NOT $5 THEN coalesce(off_at, now()) END, off_why = CASE WHEN $5 OR off_at IS NULL THEN '' ELSE off_why END
		WHERE workspace_id = $1 AND id = $2`, workspace, id, url, codes, on)
}

// SwitchWebhookOff records that nothing is delivered to a webhook any more, and why.
func (s *Store) SwitchWebhookOff(ctx context.Context, id int64, why string) error {
	return s.changed(ctx, "UPDATE webhook SET off_at = now(), off_why = $2 WHERE id = $1 AND off_at IS NULL", id, why)
}

// SetWebhookSecret gives a webhook another secret; until a time it signs with both.
func (s *Store) SetWebhookSecret(ctx context.Context, workspace, id int64, sealed []byte, both time.Time) error {
	return s.changed(ctx, "UPDATE webhook SET before = sealed, before_until = $4, sealed = $3 WHERE workspace_id = $1 AND id = $2", workspace, id, sealed, both)
}

// DeleteWebhook deletes a webhook with what was delivered to it.
func (s *Store) DeleteWebhook(ctx context.Context, workspace, id int64) error {
	return s.changed(ctx, "DELETE FROM webhook WHERE workspace_id = $1 AND id = $2", workspace, id)
}

// The states of a delivery.
const (
	DeliveryWaiting   = "waiting"
	DeliveryDelivered = "delivered"
	DeliveryFailed    = "failed"
)

// Delivery is an event on its way to a webhook.
type Delivery struct {
	ID        int64
	WebhookID int64
	Seq       int64
	Thing     string
	State     string
	Attempts  int
	CreatedAt time.Time
	NextAt    *time.Time // when it is tried again
	EndedAt   *time.Time
	EventID   string
	Code      event.Code
	Subject   string
}

const deliveries = `SELECT d.id, d.webhook_id, d.seq, d.thing, d.state, d.attempts, d.created_at, d.next_at, d.ended_at, e.id::text AS event_id, e.code, e.subject
	FROM delivery d JOIN event e USING (seq) JOIN webhook w ON w.id = d.webhook_id `

// AddDelivery has an event delivered to a webhook, after those about the same thing.
func (s *Store) AddDelivery(ctx context.Context, webhook int64, e Event) error {
	_, err := s.db.Exec(ctx, "INSERT INTO delivery (webhook_id, seq, thing) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", webhook, e.Seq, e.Thing)
	return err
}

// WaitingDelivery returns the oldest delivery to a webhook about a thing that waits.
func (s *Store) WaitingDelivery(ctx context.Context, webhook int64, thing string) (Delivery, error) {
	return one[Delivery](ctx, s.db, deliveries+"WHERE d.webhook_id = $1 AND d.thing = $2 AND d.state = 'waiting' ORDER BY d.id LIMIT 1", webhook, thing)
}

// WaitingThings returns about which things deliveries to a webhook wait.
func (s *Store) WaitingThings(ctx context.Context, webhook int64) ([]string, error) {
	return column[string](ctx, s.db, "SELECT DISTINCT thing FROM delivery WHERE webhook_id = $1 AND state = 'waiting'", webhook)
}

// Attempt is a call of a webhook and what came of it.
type Attempt struct {
	Number  int
	At      time.Time
	TookMS  int
	Request string // its headers and body
	Status  int    // 0: no answer came
	Answer  string // the beginning of what came back
	Problem string // "" where it was taken
}

// AddAttempt records an attempt of a delivery. The delivery ends with a state, or (waiting) is
// tried again at a time.
func (s *Store) AddAttempt(ctx context.Context, d Delivery, a Attempt, state string, next *time.Time) error {
	// The webhook first: it is also what is locked first where a webhook is deleted.
	return s.InTx(ctx, func(s *Store, _ pgx.Tx) error {
		if err := s.changed(ctx, "UPDATE webhook SET failing_since = CASE WHEN $2 THEN NULL ELSE coalesce(failing_since, now()) END WHERE id = $1",
			d.WebhookID, state == DeliveryDelivered); err != nil {
			return err
		}
		if err := s.changed(ctx, `UPDATE delivery SET attempts = $2, state = $3, next_at = $4, ended_at = CASE WHEN $3 <> 'waiting' THEN now() END
			WHERE id = $1 AND state = 'waiting'`, d.ID, a.Number, state, next); err != nil {
			return err
		}
		_, err := s.db.Exec(ctx, `INSERT INTO delivery_attempt (delivery_id, number, at, took_ms, request, status, answer, problem) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
			ON CONFLICT (delivery_id, number) DO NOTHING`, d.ID, a.Number, a.At, a.TookMS, a.Request, a.Status, a.Answer, a.Problem)
		return err
	})
}

// Deliveries returns a page of the deliveries to a webhook, the newest first, before a number
// (0: from the newest), of one state or (with "") of all.
func (s *Store) Deliveries(ctx context.Context, workspace, webhook, before int64, state string, limit int) ([]Delivery, error) {
	return many[Delivery](ctx, s.db, deliveries+`WHERE w.workspace_id = $1 AND d.webhook_id = $2 AND ($3::bigint = 0 OR d.id < $3) AND ($4 = '' OR d.state = $4)
		ORDER BY d.id DESC LIMIT $5`, workspace, webhook, before, state, limit)
}

// Delivery returns a delivery of a workspace with its attempts, the first one first.
func (s *Store) Delivery(ctx context.Context, workspace, id int64) (d Delivery, attempts []Attempt, err error) {
	if d, err = one[Delivery](ctx, s.db, deliveries+"WHERE w.workspace_id = $1 AND d.id = $2", workspace, id); err != nil {
		return d, nil, err
	}
	attempts, err = many[Attempt](ctx, s.db, "SELECT number, at, took_ms, request, status, answer, problem FROM delivery_attempt WHERE delivery_id = $1 ORDER BY number", id)
	return d, attempts, err
}

// Resend has a delivery tried again, also one that ended, and counts its attempts on.
func (s *Store) Resend(ctx context.Context, d Delivery) error {
	return s.changed(ctx, "UPDATE delivery SET state = 'waiting', ended_at = NULL, next_at = NULL WHERE id = $1", d.ID)
}

// HurryJob has a job worked now that waits for its time.
func (s *Store) HurryJob(ctx context.Context, kind string, args any) error {
	_, err := s.db.Exec(ctx, "UPDATE river_job SET state = 'available', scheduled_at = now() WHERE kind = $1 AND args = $2 AND state IN ('scheduled', 'retryable')", kind, args)
	return err
}

package work

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"varnet/core/event"
	"varnet/internal/outbox"
	"varnet/internal/store"
)

// DeliverArgs names a webhook and a thing: what happened to that is delivered in order.
type DeliverArgs struct {
	Webhook int64  `json:"webhook"`
	Thing   string `json:"thing"`
}

// Kind names the job.
func (DeliverArgs) Kind() string { return "deliver" }

// InsertOpts makes it one job for a webhook and a thing.
func (DeliverArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueDeliver, UniqueOpts: unique}
}

const (
	queueDeliver = "deliver"
	callers      = 20 // how many webhooks are called at once
)

type deliverWorker struct {
	river.WorkerDefaults[DeliverArgs]
	engine *Engine
}

func (w *deliverWorker) Work(ctx context.Context, job *river.Job[DeliverArgs]) error {
	e, start := w.engine, time.Now()
	for time.Since(start) < slice && !e.closing.Load() {
		wait, more, err := e.deliver(ctx, job.Args)
		switch {
		case err != nil:
			return err
		case wait > 0:
			return river.JobSnooze(wait)
		case !more:
			return e.handOn(ctx, job)
		}
	}
	return e.handOn(ctx, job)
}

// deliver makes an attempt of the oldest delivery that waits: what is waited for until the next
// one of it, or whether there may be more.
func (e *Engine) deliver(ctx context.Context, a DeliverArgs) (wait time.Duration, more bool, err error) {
	hook, err := e.Store.WebhookByID(ctx, a.Webhook)
	if err != nil {
		return 0, false, notThere(err)
	}
	d, err := e.Store.WaitingDelivery(ctx, a.Webhook, a.Thing)
	if err != nil || hook.OffAt != nil && d.Code != event.WebhookTest {
		return 0, false, notThere(err)
	}
	done, err := e.Outbox.Deliver(ctx, hook, d)
	if err != nil {
		return 0, false, notThere(err)
	}
	if done.Off != "" && hook.OffAt == nil {
		return 0, false, e.switchOff(ctx, hook, done.Off)
	}
	return done.Wait, true, nil
}

// notThere is nil for what was deleted meanwhile.
func notThere(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	return err
}

// switchOff switches a webhook off that takes nothing.
func (e *Engine) switchOff(ctx context.Context, w store.Webhook, why string) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.SwitchWebhookOff(ctx, w.ID, why); err != nil {
			return notThere(err)
		}
		return e.Happened(ctx, s, tx, event.Event{Code: event.WebhookOff, Workspace: w.WorkspaceID, Says: why,
			Data: event.Data{WebhookID: w.ID, Webhook: outbox.HostOf(w.URL), Words: why}})
	})
}

// handOn completes the job and hands on to a successor where more waits. Completing comes
// first, as with lanes: whoever adds a delivery at the same moment waits for it or is seen.
func (e *Engine) handOn(ctx context.Context, job *river.Job[DeliverArgs]) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if _, err := river.JobCompleteTx[*riverpgx](ctx, tx, job); err != nil {
			return err
		}
		hook, err := s.WebhookByID(ctx, job.Args.Webhook)
		if err == nil && hook.OffAt == nil {
			_, err = s.WaitingDelivery(ctx, job.Args.Webhook, job.Args.Thing)
			if err == nil {
				return e.insert(ctx, tx, job.Args)
			}
		}
		return notThere(err)
	})
}

// DeliverWaiting sets going what waits for a webhook that was switched on.
func (e *Engine) DeliverWaiting(ctx context.Context, webhook int64) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		things, err := s.WaitingThings(ctx, webhook)
		if err != nil {
			return err
		}
		for _, thing := range things {
			if err := e.insert(ctx, tx, DeliverArgs{webhook, thing}); err != nil {
				return err
			}
		}
		return nil
	})
}

// Resend tries a delivery now, whether it waits or ended.
func (e *Engine) Resend(ctx context.Context, d store.Delivery) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := s.Resend(ctx, d); err != nil {
			return err
		}
		if err := e.insert(ctx, tx, DeliverArgs{d.WebhookID, d.Thing}); err != nil {
			return err
		}
		return s.HurryJob(ctx, DeliverArgs{}.Kind(), DeliverArgs{d.WebhookID, d.Thing})
	})
}

// TestWebhook has a webhook called with an event of its own.
func (e *Engine) TestWebhook(ctx context.Context, w store.Webhook, by string) error {
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		return e.Happened(ctx, s, tx, event.Event{Code: event.WebhookTest, Workspace: w.WorkspaceID, Says: by + " tried this webhook out.",
			Data: event.Data{WebhookID: w.ID, Webhook: outbox.HostOf(w.URL)}})
	})
}

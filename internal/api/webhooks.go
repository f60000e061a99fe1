package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"varnet/core/event"
	"varnet/core/say"
	"varnet/internal/contract"
	"varnet/internal/outbox"
	"varnet/internal/store"
)

func (a *API) registerWebhooks(h huma.API) {
	huma.Register(h, operation("get-webhooks", http.MethodGet, "/webhooks", "The webhooks of the workspace, the oldest first"), a.webhooks)
	huma.Register(h, creates(operation("make-webhook", http.MethodPost, "/webhooks", "Add a webhook; its secret is shown this once")), a.makeWebhook)
	huma.Register(h, operation("change-webhook", http.MethodPatch, "/webhooks/{id}", "Change where a webhook is, which events it receives, or switch it on or off"), a.changeWebhook)
	huma.Register(h, operation("delete-webhook", http.MethodDelete, "/webhooks/{id}", "Delete a webhook"), a.deleteWebhook)
	huma.Register(h, operation("renew-webhook-secret", http.MethodPost, "/webhooks/{id}/secret", "Give a webhook another secret"), a.renewWebhookSecret)
	huma.Register(h, operation("test-webhook", http.MethodPost, "/webhooks/{id}/test", "Call a webhook to try it out"), a.testWebhook)
	huma.Register(h, operation("get-deliveries", http.MethodGet, "/webhooks/{id}/deliveries", "What was delivered to a webhook"), a.deliveries)
	huma.Register(h, operation("get-delivery", http.MethodGet, "/deliveries/{id}", "One delivery with its attempts"), a.delivery)
	huma.Register(h, operation("resend-delivery", http.MethodPost, "/deliveries/{id}/resend", "Deliver an event again, now"), a.resendDelivery)
}

type webhookOutput struct{ Body contract.Webhook }

func webhookBody(w store.Webhook) contract.Webhook {
	b := contract.Webhook{ID: w.ID, URL: w.URL, Codes: w.Codes, On: w.OffAt == nil, FailingSince: w.FailingSince, CreatedAt: w.CreatedAt, Says: outbox.WebhookSays(w)}
	if w.Before != nil {
		b.BothUntil = w.BeforeUntil
	}
	return b
}

func (a *API) webhooks(ctx context.Context, _ *struct{}) (*pageOutput[contract.Webhook], error) {
	found, err := a.store.Webhooks(ctx, workspace(ctx).ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return whole(contract.Each(found, webhookBody)), nil
}

// mayBeTold reports why a webhook cannot be told of some kinds of events: those of its workspace
// it can.
func mayBeTold(codes []event.Code) error {
	for i, c := range codes {
		if k, ok := event.Of(c); !ok || k.Fixed || k.For == event.Operators || k.For == event.OnePerson {
			return huma.Error422UnprocessableEntity("A webhook cannot receive one of the events.", &huma.ErrorDetail{Location: fmt.Sprintf("body.codes[%d]", i),
				Message: "there is no such kind of event for a workspace; GET /event-kinds names them", Value: c})
		}
	}
	return nil
}

func (a *API) checkURL(address string) error {
	if err := a.engine.Outbox.CheckURL(address); err != nil {
		return huma.Error422UnprocessableEntity("A webhook cannot be at this address.", &huma.ErrorDetail{Location: "body.url", Message: err.Error(), Value: address})
	}
	return nil
}

func (a *API) makeWebhook(ctx context.Context, in *struct{ Body contract.NewWebhook }) (*made[contract.Webhook], error) {
	if err := cmp.Or(a.checkURL(in.Body.URL), mayBeTold(in.Body.Codes)); err != nil {
		return nil, err
	}
	w, secret, err := a.engine.Outbox.NewWebhook(ctx, workspace(ctx).ID, in.Body.URL, ordered(in.Body.Codes))
	if errors.Is(err, outbox.ErrMany) {
		return nil, huma.Error409Conflict(say.Sentence(err.Error()))
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := webhookBody(w)
	b.Secret = secret
	return &made[contract.Webhook]{fmt.Sprintf("/api/v1/webhooks/%d", w.ID), b}, nil
}

// ordered returns codes without repeats.
func ordered(codes []event.Code) []event.Code {
	return slices.Compact(slices.Sorted(slices.Values(codes)))
}

func (a *API) changeWebhook(ctx context.Context, in *struct {
	ByID
	Body contract.WebhookChange
}) (*webhookOutput, error) {
	w, err := a.store.Webhook(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	on := w.OffAt == nil
	if in.Body.URL != nil {
		w.URL = *in.Body.URL
	}
	if len(in.Body.Codes) > 0 {
		w.Codes = ordered(in.Body.Codes)
	}
	if in.Body.On != nil {
		on = *in.Body.On
	}
	if err := cmp.Or(a.checkURL(w.URL), mayBeTold(w.Codes)); err != nil {
		return nil, err
	}
	err = a.store.ChangeWebhook(ctx, w.WorkspaceID, w.ID, w.URL, w.Codes, on)
	if err == nil && on && w.OffAt != nil {
		err = a.engine.DeliverWaiting(ctx, w.ID)
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.webhook(ctx, in.ID, "")
}

// webhook answers with a webhook, and its secret where that is new.
func (a *API) webhook(ctx context.Context, id int64, secret string) (*webhookOutput, error) {
	w, err := a.store.Webhook(ctx, workspace(ctx).ID, id)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := webhookBody(w)
	b.Secret = secret
	return &webhookOutput{b}, nil
}

func (a *API) deleteWebhook(ctx context.Context, in *ByID) (*struct{}, error) {
	if err := a.store.DeleteWebhook(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	return nil, nil
}

func (a *API) renewWebhookSecret(ctx context.Context, in *ByID) (*webhookOutput, error) {
	secret, err := a.engine.Outbox.NewSecret(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.webhook(ctx, in.ID, secret)
}

func (a *API) testWebhook(ctx context.Context, in *ByID) (*webhookOutput, error) {
	c := callerOf(ctx)
	w, err := a.store.Webhook(ctx, c.WorkspaceID, in.ID)
	if err == nil {
		err = a.engine.TestWebhook(ctx, w, cmp.Or(c.Name, "The key “"+c.KeyName+"”"))
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.webhook(ctx, in.ID, "")
}

func deliveryBody(d store.Delivery) contract.Delivery {
	return contract.Delivery{ID: d.ID, EventID: d.EventID, Code: d.Code, Subject: d.Subject, State: d.State, Attempts: d.Attempts, CreatedAt: d.CreatedAt, NextAt: d.NextAt, EndedAt: d.EndedAt}
}

func (a *API) deliveries(ctx context.Context, in *struct {
	ByID
	Cursor
	Limit
	State string `query:"state" enum:"any,waiting,delivered,failed" default:"any" doc:"Only those of this state."`
}) (*pageOutput[contract.Delivery], error) {
	before, state := int64(0), in.State
	if err := in.place(&before); err != nil {
		return nil, err
	}
	if state == "any" {
		state = ""
	}
	if _, err := a.store.Webhook(ctx, workspace(ctx).ID, in.ID); err != nil {
		return nil, a.failed(ctx, err)
	}
	found, err := a.store.Deliveries(ctx, workspace(ctx).ID, in.ID, before, state, in.Limit.Limit)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return pageOf(contract.Each(found, deliveryBody), in.Limit.Limit, func(d contract.Delivery) any { return d.ID }), nil
}

type deliveryOutput struct{ Body contract.DeliveryLog }

func (a *API) delivery(ctx context.Context, in *ByID) (*deliveryOutput, error) {
	d, attempts, err := a.store.Delivery(ctx, workspace(ctx).ID, in.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &deliveryOutput{contract.DeliveryLog{Delivery: deliveryBody(d),
		Log: contract.Each(attempts, func(t store.Attempt) contract.DeliveryAttempt { return contract.DeliveryAttempt(t) })}}, nil
}

func (a *API) resendDelivery(ctx context.Context, in *ByID) (*deliveryOutput, error) {
	d, _, err := a.store.Delivery(ctx, workspace(ctx).ID, in.ID)
	if err == nil {
		err = a.engine.Resend(ctx, d)
	}
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.delivery(ctx, in)
}

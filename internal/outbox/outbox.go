// Package outbox tells events: as notices, as letters to those who want them, and as signed
// calls of webhooks.
//
// An event is recorded in the transaction that makes it so, with a job that tells it. That job
// settles in one transaction what becomes of it, and further jobs send letters and deliver to
// webhooks: each at least once, with an id by which receivers know repeats.
package outbox

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"varnet/core/event"
	"varnet/internal/account"
	"varnet/internal/clock"
	"varnet/internal/letter"
	"varnet/internal/secret"
	"varnet/internal/store"
	"varnet/internal/summary"
)

// Outbox tells events.
type Outbox struct {
	Store     *store.Store
	Secrets   *secret.Box
	Summaries *summary.Summaries
	Office    *letter.Office
	Clock     clock.Clock
	// AllowPrivate lets webhooks be at loopback and private addresses.
	AllowPrivate bool
}

// roles are those in a workspace whom events for an audience are for.
func roles(a event.Audience) (out []string) {
	for _, r := range account.Roles() {
		if a == event.Everybody || a == event.Managers && slices.Contains(r.Scopes(false), account.Manage) {
			out = append(out, string(r))
		}
	}
	return out
}

// ViewOf returns which events somebody sees.
func ViewOf(c account.Caller) store.View {
	v := store.View{Workspace: c.WorkspaceID, Person: c.PersonID, Codes: []event.Code{}, Operators: []event.Code{}}
	for _, k := range event.Kinds() {
		switch {
		case !Concerns(c, k), k.Code == event.WebhookTest: // the webhook's alone
		case k.For == event.Operators:
			v.Operators = append(v.Operators, k.Code)
		case k.For != event.OnePerson:
			v.Codes = append(v.Codes, k.Code)
		}
	}
	return v
}

// Concerns reports whether a kind of event is for somebody.
func Concerns(c account.Caller, k event.Kind) bool {
	return c.May(map[event.Audience]account.Scope{event.Everybody: account.Read, event.Managers: account.Manage, event.Operators: account.Installation, event.OnePerson: account.Self}[k.For])
}

// Says returns what happened in the sentences of the page that shows it.
func (o *Outbox) Says(ctx context.Context, e store.Event) (string, error) {
	if e.Says != "" {
		return e.Says, nil
	}
	r, l, err := o.runAndList(ctx, e)
	if errors.Is(err, store.ErrNotFound) {
		return "It was deleted meanwhile.", nil
	}
	if err != nil {
		return "", err
	}
	b, err := o.Summaries.Run(ctx, r, l, time.UTC)
	if err != nil {
		return "", err
	}
	said := []string{b.Sentence}
	switch e.Code {
	case event.RunFinished:
		said = append(said, b.ExportSentence)
	case event.RunBlocked:
		said = append(said, b.Notices...)
	}
	return strings.Join(said, " "), nil
}

// runAndList reads the run that an event is about, with its list.
func (o *Outbox) runAndList(ctx context.Context, e store.Event) (r store.Run, l store.List, err error) {
	if e.WorkspaceID == nil || e.Data.RunID == 0 {
		return r, l, store.ErrNotFound
	}
	if r, err = o.Store.Run(ctx, *e.WorkspaceID, e.Data.RunID); err == nil {
		l, err = o.Store.List(ctx, *e.WorkspaceID, r.ListID)
	}
	return r, l, err
}

// Due is what becomes of an event.
type Due struct {
	AtOnce   []int64             // the persons who get a letter of their own
	Daily    map[int64]time.Time // those in whose daily letter it is, and when that goes
	Webhooks []int64
}

// Due settles what becomes of an event.
func (o *Outbox) Due(ctx context.Context, e store.Event) (d Due, err error) {
	k, ok := event.Of(e.Code)
	if !ok {
		return d, nil // of a later release
	}
	if d.Webhooks, err = o.webhooksFor(ctx, e); err != nil || k.Fixed || e.Quiet {
		return d, err
	}
	if _, err := o.Office.Settings(ctx); err != nil {
		if errors.Is(err, letter.ErrNone) {
			err = nil
		}
		return d, err
	}
	readers, err := o.Store.Readers(ctx, e, roles(k.For))
	if err != nil {
		return d, err
	}
	d.Daily = map[int64]time.Time{}
	for _, r := range readers {
		switch choiceOf(r, k) {
		case event.AtOnce:
			d.AtOnce = append(d.AtOnce, r.PersonID)
		case event.Daily:
			d.Daily[r.PersonID] = clock.Daily(o.Clock.Now(), zoneOf(r), r.DailyHour)
		}
	}
	return d, nil
}

func choiceOf(r store.Reader, k event.Kind) event.Choice {
	if r.Choice != nil {
		return *r.Choice
	}
	return k.Letter
}

// zoneOf returns the zone of a reader; one that this machine does not know any more is UTC.
func zoneOf(r store.Reader) *time.Location {
	zone, err := time.LoadLocation(r.Zone)
	if err != nil {
		return time.UTC
	}
	return zone
}

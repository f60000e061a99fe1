package api

import (
	"context"
	"fmt"
	"time"

	"varnet/core/say"
	"varnet/internal/contract"
)

// queued are the states of parcels in the order in which they are told.
var queued = []struct{ state, kind, says string }{
	{"claimed", "in hand", "Being asked about at this moment."},
	{"open", "ready", "May be asked about now; waits for a lane at its operator or for a worker."},
	{"postponed", "postponed", "Waits until the time that the host or the round set."},
	{"paused", "paused", "Belongs to a run that is paused, or outside its hours."},
}

// lateAfter is from when on work that is ready is said to be late: no operator's
// turn takes that long.
const lateAfter = 5 * time.Minute

// namedFailing is how many kinds of work that keeps failing a sentence names.
const namedFailing = 3

// refusedWithin is of how long ago refused messages are told.
const refusedWithin = 24 * time.Hour

func (a *API) health(ctx context.Context, _ *struct{}) (*struct{ Body contract.ServiceHealth }, error) {
	q, err := a.store.Queue(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	workers, err := a.store.Workers(ctx)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	b := contract.ServiceHealth{Queue: []contract.Queued{}}
	for _, k := range queued {
		b.Queue = append(b.Queue, contract.Queued{Kind: k.kind, Says: k.says, Parcels: q.Parcels[k.state], Addresses: q.Addresses[k.state]})
	}
	lanes := 0
	for _, w := range workers {
		lanes += w.Lanes
	}
	b.Sentence = fmt.Sprintf("%s with %d lanes %s at work.", say.Plural(int64(len(workers)), "worker", "workers"), lanes, map[bool]string{true: "is", false: "are"}[len(workers) == 1])
	switch waits := say.Duration(q.Age); {
	case len(workers) == 0:
		b.Sentence = "No worker is at work: nothing goes on until one is started with varnet serve or varnet worker."
	case q.Age > lateAfter:
		b.Sentence += fmt.Sprintf(" The oldest parcel that is ready has waited for %s: more workers would help, unless its operator has few lanes.", waits)
	case q.Parcels["open"] > 0:
		b.Sentence += fmt.Sprintf(" The oldest parcel that is ready has waited for %s.", waits)
	default:
		b.Sentence += " Nothing is waiting for a worker."
	}
	if err := a.failing(ctx, &b); err != nil {
		return nil, a.failed(ctx, err)
	}
	if b.Database, b.DatabaseBytes, err = a.store.Database(ctx); err != nil {
		return nil, a.failed(ctx, err)
	}
	refused, err := a.store.Refused(ctx, a.engine.Clock.Now().Add(-refusedWithin))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	if refused > 0 {
		b.Sentence += fmt.Sprintf(" %s to return addresses with a wrong tag %s refused in the last day: somebody made bounces up.", say.Plural(refused, "message", "messages"), map[bool]string{true: "was", false: "were"}[refused == 1])
	}
	return &struct{ Body contract.ServiceHealth }{b}, nil
}

// failing adds what keeps failing.
func (a *API) failing(ctx context.Context, b *contract.ServiceHealth) error {
	found, err := a.engine.Failing(ctx)
	b.Failing = make([]contract.Failing, len(found))
	var does []string
	for i, f := range found {
		b.Failing[i] = contract.Failing{Kind: f.Kind, Does: f.Does, Jobs: f.Jobs, At: f.At(), Since: f.Since, Attempts: f.Attempts, Said: say.Line(f.Said)}
		does = append(does, f.Does)
	}
	if len(does) > 0 {
		b.Sentence = "Background work keeps failing: " + say.SomeAnd(does, namedFailing) + ". " + b.Sentence
	}
	return err
}

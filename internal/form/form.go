// Package form answers public forms: whether an address that a visitor types can be used, within a
// deadline, from what is known or can be asked in time. What takes longer goes on without the
// visitor, so that the next look is better. Who asks about many addresses is slowed down, and told
// of. Visitors and addresses are kept as fingerprints alone, for a day.
package form

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/event"
	"varnet/core/form"
	"varnet/core/say"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// Deadline is how long a visitor waits unless the service is told otherwise.
const Deadline = 1500 * time.Millisecond

// checkTime bounds what goes on without a visitor.
const checkTime = time.Minute

// Checked is what a check of an address came to.
type Checked struct {
	Answer form.Answer
	// Suggestion is the domain that was probably meant; "" for none.
	Suggestion string
	// Absent reports whether a host said that there is no such mailbox.
	Absent bool
}

// Desk answers forms.
type Desk struct {
	Store    *store.Store
	Secrets  *secret.Box
	Grammar  address.Grammar
	Log      *slog.Logger
	Now      func() time.Time
	Deadline time.Duration
	// Check checks an address on the account of a workspace.
	Check func(ctx context.Context, workspace int64, by store.By, a address.Address) (Checked, error)
	// Happened records an event with the transaction that makes it so.
	Happened func(ctx context.Context, s *store.Store, tx pgx.Tx, e event.Event) error

	mu      sync.Mutex
	going   map[string]*check       // by workspace and fingerprint
	domains map[string]*form.Domain // by key and domain, of this hour
	hour    time.Time
}

// check is one that is going on.
type check struct {
	done chan struct{}
	Checked
}

// Question is what a visitor wants to know.
type Question struct {
	Workspace int64
	Key       store.Opened // of the form
	Visitor   string       // the network address that they come from
	Typed     string
}

// Answered is what they are told.
type Answered struct {
	Answer form.Answer
	// Suggestion is the address that was probably meant; "" for none.
	Suggestion string
}

// Ask answers a visitor within the deadline, or later where they are slowed down.
func (d *Desk) Ask(ctx context.Context, q Question) (Answered, error) {
	a, err := d.Grammar.Parse(q.Typed)
	var wrong *address.Error
	if errors.As(err, &wrong) {
		return Answered{Answer: form.NotUsable}, nil
	}
	if err != nil {
		return Answered{}, err
	}
	print := d.Secrets.Fingerprint(fmt.Sprint(q.Workspace, " ", a.Canonical()), "form address")
	over, err := d.visit(ctx, q, print)
	if err != nil || over {
		return Answered{Answer: form.NotKnown}, err
	}
	if d.enumerated(q.Key.KeyID, a.Domain) {
		return Answered{Answer: form.NotKnown}, nil
	}
	if c, known, err := d.known(ctx, q.Workspace, print); err != nil || known {
		return answered(a, c), err
	}
	going := d.begin(ctx, q, a, print)
	waiting, cancel := context.WithTimeout(ctx, d.Deadline)
	defer cancel()
	select {
	case <-going.done:
		return answered(a, going.Checked), nil
	case <-waiting.Done():
		return Answered{Answer: form.NotKnown}, nil
	}
}

func answered(a address.Address, c Checked) Answered {
	out := Answered{Answer: c.Answer}
	if c.Suggestion != "" {
		out.Suggestion = a.Local + "@" + c.Suggestion
	}
	return out
}

// visit counts a visitor's question, and slows down who asks about many addresses. over reports
// that they asked too often today, so that nothing is asked for them.
func (d *Desk) visit(ctx context.Context, q Question, print []byte) (over bool, err error) {
	now := d.Now()
	visitor := d.Secrets.Fingerprint(q.Visitor, "form visitor")
	asks, different, more, err := d.Store.Visit(ctx, q.Key.KeyID, visitor, print, now)
	if err != nil {
		return false, err
	}
	if more && different == form.ManyAddresses {
		d.tell(ctx, q, fmt.Sprintf("A visitor of the form “%s” asked about %s today. Their answers are put off more and more; from %s on they get none.",
			q.Key.KeyName, say.Plural(int64(different), "different address", "different addresses"), say.Plural(int64(q.Key.VisitorDay), "question", "questions")))
	}
	select {
	case <-time.After(form.Wait(different)):
	case <-ctx.Done():
	}
	return asks > q.Key.VisitorDay, ctx.Err()
}

// tell records that a form is used to ask about many addresses. That it could not be recorded keeps
// nobody from an answer.
func (d *Desk) tell(ctx context.Context, q Question, says string) {
	err := d.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		return d.Happened(ctx, s, tx, event.Event{Code: event.FormEnumerated, Workspace: q.Workspace, Data: event.Data{Key: q.Key.KeyName}, Says: says})
	})
	if err != nil {
		d.Log.Error("that a form is asked about many addresses could not be recorded", "err", err)
	}
}

// known returns what was found before, as long as it holds.
func (d *Desk) known(ctx context.Context, workspace int64, print []byte) (c Checked, known bool, err error) {
	text, at, err := d.Store.FormAnswer(ctx, workspace, print)
	if err != nil || text == "" {
		return c, false, err
	}
	answer, suggestion, _ := strings.Cut(text, " ")
	c = Checked{Answer: form.Answer(answer), Suggestion: suggestion}
	return c, d.Now().Sub(at) < c.Answer.Kept(), nil
}

// begin checks an address, unless somebody waits for the same already. It goes on when nobody
// waits any more, and gives way to nobody, since somebody did.
func (d *Desk) begin(visitor context.Context, q Question, a address.Address, print []byte) *check {
	id := fmt.Sprint(q.Workspace, " ", string(print))
	d.mu.Lock()
	defer d.mu.Unlock()
	if c := d.going[id]; c != nil {
		return c
	}
	if d.going == nil {
		d.going = map[string]*check{}
	}
	c := &check{done: make(chan struct{}), Checked: Checked{Answer: form.NotKnown}}
	if len(d.going) >= mostGoing {
		return c
	}
	d.going[id] = c
	go func() {
		defer close(c.done)
		ctx, cancel := context.WithTimeout(context.WithoutCancel(visitor), checkTime)
		defer cancel()
		found, err := d.Check(ctx, q.Workspace, store.By{KeyID: &q.Key.KeyID}, a)
		if err == nil {
			c.Checked = found
			err = d.Store.KeepFormAnswer(ctx, q.Workspace, print, strings.TrimSpace(string(found.Answer)+" "+found.Suggestion), d.Now())
		}
		if err != nil {
			d.Log.Warn("an address of a form was not checked", "err", err)
		}
		d.mu.Lock()
		delete(d.going, id)
		d.mu.Unlock()
		d.count(ctx, q, a.Domain, found.Absent)
	}()
	return c
}

// mostGoing is how many checks for forms go on at once; beyond, nothing is known.
const mostGoing = 500

// enumerated reports whether the names of a domain are being tried out by a form.
func (d *Desk) enumerated(key int64, domain string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	c := d.domains[fmt.Sprint(key, " ", domain)]
	return c != nil && d.Now().Truncate(time.Hour).Equal(d.hour) && c.Enumerated()
}

// count counts what became of a question, and tells when the names of a domain are being tried.
func (d *Desk) count(ctx context.Context, q Question, domain string, absent bool) {
	d.mu.Lock()
	if hour := d.Now().Truncate(time.Hour); !hour.Equal(d.hour) || len(d.domains) > mostDomains {
		d.hour, d.domains = hour, map[string]*form.Domain{}
	}
	id := fmt.Sprint(q.Key.KeyID, " ", domain)
	c := d.domains[id]
	if c == nil {
		c = &form.Domain{}
		d.domains[id] = c
	}
	before := c.Enumerated()
	c.Asked++
	if absent {
		c.Absent++
	}
	now := c.Enumerated()
	d.mu.Unlock()
	if now && !before {
		d.tell(ctx, q, fmt.Sprintf("Visitors of the form “%s” asked about many mailboxes of one domain within the hour, and most of them do not exist. Until the hour is over the form is told nothing about that domain.", q.Key.KeyName))
	}
}

// mostDomains bounds how many domains are counted in an hour.
const mostDomains = 100_000

package bounce

import (
	"context"
	"errors"
	"iter"
	"slices"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/bounce"
	"varnet/core/finding"
	"varnet/internal/decide"
	"varnet/internal/store"
)

// recipients are the addresses of a run that a mailing went to, with the verdicts they had,
// by their ordinals.
func recipients(ctx context.Context, s *store.Store, m store.Mailing, run store.Run, l store.List) ([]int32, error) {
	d, err := decide.New(ctx, s, run, l, run.Policy)
	if err != nil {
		return nil, err
	}
	var verdicts []int32
	err = s.EachRow(ctx, run, l, d.Needs(), func(r *store.OutRow) error {
		slot, rule := d.Row(r)
		cell := r.Cells[slot]
		if cell.Address == 0 || cell.Verdict == 0 || !slices.Contains(m.Decisions, string(d.Ruling(rule).Decision)) {
			return nil
		}
		if more := int(cell.Address) + 1 - len(verdicts); more > 0 {
			verdicts = append(verdicts, make([]int32, more)...)
		}
		verdicts[cell.Address] = cell.Verdict
		return nil
	})
	return verdicts, err
}

// Prepare writes down to whom a mailing went: to the addresses of its run with one of its
// decisions, each once. The watch begins with that.
func (d *Desk) Prepare(ctx context.Context, m store.Mailing) error {
	run, err := d.Store.Run(ctx, m.WorkspaceID, *m.RunID)
	if err != nil {
		return err
	}
	l, err := d.Store.List(ctx, m.WorkspaceID, run.ListID)
	if err != nil {
		return err
	}
	verdicts, err := recipients(ctx, d.Store, m, run, l)
	if err != nil {
		return err
	}
	next, stop := iter.Pull2(d.lettersTo(ctx, l, verdicts))
	defer stop()
	return d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		return d.Sent(ctx, s, m, func() (*store.Mailed, error) {
			letter, err, ok := next()
			if !ok || err != nil {
				return nil, err
			}
			return &letter, nil
		})
	})
}

// lettersTo returns the letters to those addresses of a list that have a verdict, one after the
// other: a list may have millions.
func (d *Desk) lettersTo(ctx context.Context, l store.List, verdicts []int32) iter.Seq2[store.Mailed, error] {
	return func(yield func(store.Mailed, error) bool) {
		err := d.Store.EachMailbox(ctx, l.ID, func(ordinal int32, local, domain string) error {
			if int(ordinal) >= len(verdicts) || verdicts[ordinal] == 0 {
				return nil
			}
			m := store.Mailed{Mailbox: local + "@" + domain, Canonical: address.CanonicalOf(local, domain), Domain: domain, Said: verdicts[ordinal]}
			if !yield(m, nil) {
				return errStopped
			}
			return nil
		})
		if err != nil && !errors.Is(err, errStopped) {
			yield(store.Mailed{}, err)
		}
	}
}

var errStopped = errors.New("nobody wants more")

// Sent records the letters of a mailing that is being prepared, as next returns them until nil,
// and begins its watch, unless it is sent later.
func (d *Desk) Sent(ctx context.Context, s *store.Store, m store.Mailing, next func() (*store.Mailed, error)) (err error) {
	if m.Letters, err = s.AddMailed(ctx, m, next); err != nil {
		return err
	}
	if m.State = store.MailingWatching; m.SendLater {
		m.State = store.MailingExported
	}
	return s.SetMailing(ctx, m, store.MailingPreparing)
}

// silentAtOnce is how many letters are settled in one transaction.
const silentAtOnce = 5000

// Close ends the watch of a mailing: what is known of no letter by now did not bounce. What
// is delayed stays so: silence after a warning says nothing.
func (d *Desk) Close(ctx context.Context, m store.Mailing) error {
	if err := knowVerdicts(ctx, d.Store, d.Now()); err != nil {
		return err
	}
	for more := true; more; {
		var err error
		if more, err = d.settle(ctx, m); err != nil {
			return err
		}
	}
	now := d.Now()
	m.State, m.ClosedAt = store.MailingClosed, &now
	return d.Store.SetMailing(ctx, m, store.MailingWatching)
}

// settle records that letters did not bounce; more is false where nothing is known of none any more. It
// is remembered of the addresses for which it says something: those of catch-all domains, and those of
// which something else was known.
func (d *Desk) settle(ctx context.Context, m store.Mailing) (more bool, err error) {
	verdicts, err := d.Store.Verdicts(ctx)
	if err != nil {
		return false, err
	}
	return more, d.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if err := s.LockMailings(ctx, []int64{m.ID}); err != nil {
			return err
		}
		silent, err := s.Silent(ctx, m.ID, silentAtOnce)
		if more = len(silent) > 0; err != nil || !more {
			return err
		}
		known, err := s.KnownOutcomes(ctx, m.WorkspaceID, canonicalsOf(silent))
		if err != nil {
			return err
		}
		at := m.WatchUntil()
		outcomes := map[string]store.KnownOutcome{}
		for i, l := range silent {
			silent[i].Outcome, silent[i].At = bounce.NoBounce, &at
			// By its time of sending: what bounced later says more.
			now := bounce.Known{Outcome: bounce.NoBounce, At: m.SentAt}
			before, was := known[l.Canonical]
			if (was || verdicts[l.Said].Finding == finding.CatchAll) && now.Outweighs(before.Known) {
				outcomes[l.Canonical] = store.KnownOutcome{Known: now}
			}
		}
		if err := s.SetMailed(ctx, silent); err != nil {
			return err
		}
		return d.remember(ctx, s, m.WorkspaceID, outcomes)
	})
}

func canonicalsOf(letters []store.Mailed) []string {
	list := make([]string, len(letters))
	for i, l := range letters {
		list[i] = l.Canonical
	}
	return list
}

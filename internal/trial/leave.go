package trial

import (
	"context"
	"errors"

	"varnet/core/bounce"
	"varnet/internal/store"
)

// ErrNoLetter tells that a way out leads to no letter.
var ErrNoLetter = errors.New("this way out belongs to no letter that is known here")

// Leaving returns whom a way out belongs to.
func (p *Post) Leaving(ctx context.Context, tag string) (store.Mailing, store.Mailed, error) {
	mailing, number, ok := p.Desk.Tags.Leaves(tag)
	if !ok {
		return store.Mailing{}, store.Mailed{}, ErrNoLetter
	}
	m, err := p.Store.MailingAtWork(ctx, mailing)
	if err != nil {
		return m, store.Mailed{}, gone(err)
	}
	letters, err := p.Store.MailedByNumber(ctx, m.WorkspaceID, []int64{mailing}, []int{number})
	if err != nil || len(letters) == 0 {
		return m, store.Mailed{}, gone(err)
	}
	return m, letters[0], nil
}

func gone(err error) error {
	if err == nil || errors.Is(err, store.ErrNotFound) {
		return ErrNoLetter
	}
	return err
}

// Leave strikes the address whom a way out belongs to, in the whole workspace (RFC 8058): no
// letter goes to it any more, and the policies drop it.
func (p *Post) Leave(ctx context.Context, tag string) error {
	m, l, err := p.Leaving(ctx, tag)
	if err != nil {
		return err
	}
	now := p.Now()
	return p.Desk.Know(ctx, m.WorkspaceID, map[string]store.KnownOutcome{l.Canonical: {Known: bounce.Known{Outcome: bounce.Unsubscribed, At: now}}},
		func(ctx context.Context, s *store.Store) error { return s.LeaveTrial(ctx, m.ID, l.Number, now) })
}

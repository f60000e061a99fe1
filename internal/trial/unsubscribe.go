package trial

import (
	"context"
	"errors"
	"net/mail"

	"varnet/core/bounce"
	"varnet/internal/store"
)

// ErrNoLetter tells that an unsubscribe link leads to no letter.
var ErrNoLetter = errors.New("this link belongs to no letter that is known here")

// Unsubscription is what the unsubscribe link of a letter leads to.
type Unsubscription struct {
	Mailing store.Mailing
	Letter  store.Mailed
	From    string // the sender's name
}

// Unsubscription returns what the tag of an unsubscribe link leads to.
func (p *Post) Unsubscription(ctx context.Context, tag string) (w Unsubscription, err error) {
	mailing, number, ok := p.Desk.Tags.Unsubscribes(tag)
	if !ok {
		return w, ErrNoLetter
	}
	if w.Mailing, err = p.Store.MailingAtWork(ctx, mailing); err != nil {
		return w, gone(err)
	}
	letters, err := p.Store.MailedByNumber(ctx, w.Mailing.WorkspaceID, []int64{mailing}, []int{number})
	if err != nil || len(letters) == 0 {
		return w, gone(err)
	}
	w.Letter = letters[0]
	s, err := p.Store.TrialSender(ctx, w.Mailing.WorkspaceID)
	if from, broken := mail.ParseAddress(s.Sender); broken == nil {
		w.From = from.Name
	}
	return w, err
}

func gone(err error) error {
	if err == nil || errors.Is(err, store.ErrNotFound) {
		return ErrNoLetter
	}
	return err
}

// Unsubscribe strikes the address that a letter went to, in the whole workspace (RFC 8058): no
// letter goes to it any more, and the policies drop it.
func (p *Post) Unsubscribe(ctx context.Context, w Unsubscription) error {
	now := p.Now()
	return p.Desk.Know(ctx, w.Mailing.WorkspaceID, map[string]store.KnownOutcome{w.Letter.Canonical: {Known: bounce.Known{Outcome: bounce.Unsubscribed, At: now}}},
		func(ctx context.Context, s *store.Store) error {
			return s.UnsubscribeTrial(ctx, w.Mailing.ID, w.Letter.Number, now)
		})
}

package bounce

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"varnet/core/problem"
	"varnet/internal/connect"
	"varnet/internal/letter"
	"varnet/internal/secret"
	"varnet/internal/store"
	"varnet/internal/webhook"
)

// Sources are the mailboxes that are read and the programs that call.
type Sources struct {
	Desk    *Desk
	Secrets *secret.Box
	// Env is how servers of mailboxes are dialled and trusted.
	Env connect.Env
}

const sourcePurpose = "source of bounces"

// mostSources is how many sources a workspace may have.
const mostSources = 20

// Add records a source: a mailbox with its password, or a program, for which a secret is made
// and returned, this once.
func (s *Sources) Add(ctx context.Context, b *store.BounceSource, password string) (made string, err error) {
	there, err := s.Desk.Store.BounceSources(ctx, b.WorkspaceID)
	if err != nil {
		return "", err
	}
	if len(there) >= mostSources {
		return "", problem.In("name", "a workspace has at most %d sources of bounces, and this one has them", mostSources)
	}
	if err := check(*b); err != nil {
		return "", err
	}
	if b.Kind == store.SourceWebhook {
		made = webhook.NewSecret()
		password = made
	}
	b.Sealed = s.Secrets.Seal(password, sourcePurpose)
	return made, s.Desk.Store.NewBounceSource(ctx, b)
}

// Change records how a source is now; a nil password leaves the one that is there, for the server that it was
// entered for.
func (s *Sources) Change(ctx context.Context, b store.BounceSource, password *string) error {
	if err := check(b); err != nil {
		return err
	}
	if b.Kind == store.SourceMailbox {
		before, err := s.Desk.Store.BounceSource(ctx, b.WorkspaceID, b.ID)
		if err != nil {
			return err
		}
		switch {
		case password != nil:
			b.Sealed = s.Secrets.Seal(*password, sourcePurpose)
		case letter.Elsewhere(before.Host, before.Port, b.Host, b.Port):
			return letter.EnterAgain()
		}
	}
	return s.Desk.Store.ChangeBounceSource(ctx, b)
}

// check reports the first thing that a source cannot be.
func check(b store.BounceSource) error {
	if strings.TrimSpace(b.Name) == "" {
		return problem.In("name", "give it a name")
	}
	if b.Kind == store.SourceWebhook {
		return nil
	}
	var p *problem.Field
	if err := letter.CheckServer(b.Host, letter.Security(b.Security)); errors.As(err, &p) {
		return problem.In(p.Name, "%s", strings.Replace(p.Why, "letters go to a server", "a mailbox is read", 1))
	}
	switch {
	case b.Username == "":
		return problem.In("username", "give the name to sign in with")
	case b.Then == store.ThenMove && (b.ThenFolder == "" || b.ThenFolder == b.Folder):
		return problem.In("thenFolder", "name the other folder that messages are moved to")
	}
	return nil
}

// Reseal seals the secrets of sources with the present secret, and returns how many there are.
func (s *Sources) Reseal(ctx context.Context) (int, error) {
	return s.Desk.Store.Reseal(ctx, store.BounceSecrets, func(_ string, sealed []byte) ([]byte, error) { return s.Secrets.Reseal(sealed, sourcePurpose) })
}

// How often mailboxes are looked at, and those that failed.
const (
	LookEvery     = 5 * time.Minute
	LookAfterFail = 30 * time.Minute
)

// ErrLooking tells that somebody else reads the mailbox at this moment.
var ErrLooking = errors.New("the mailbox is being read at this moment")

// Look reads what came to a mailbox since the last look, and records what it found. Its error
// is none of the mailbox's; ErrLooking where another look goes on.
func (s *Sources) Look(ctx context.Context, b store.BounceSource) (store.BounceSource, error) {
	switch err := s.Desk.Store.ClaimBounceSource(ctx, b.ID, 2*mailboxSlice); {
	case errors.Is(err, store.ErrNotFound):
		return b, ErrLooking
	case err != nil:
		return b, err
	}
	b, err := s.Desk.Store.BounceSourceAtWork(ctx, b.ID) // as the look before left it
	if err != nil {
		return b, err
	}
	imported, more, err := s.readMailbox(ctx, &b)
	if err != nil && ctx.Err() != nil {
		return b, ctx.Err()
	}
	b.Says = "Nothing new."
	switch {
	case err != nil:
		b.Says = err.Error()
	case imported.Messages > 0:
		b.Says = imported.Says()
	}
	at := s.Desk.Now()
	if more && err == nil { // the next look goes on at once
		at = at.Add(-LookEvery)
	}
	if err := s.Desk.Store.SetBounceSourceLook(ctx, b.ID, at, b.Says, err != nil); err != nil {
		return b, err
	}
	return s.Desk.Store.BounceSourceAtWork(ctx, b.ID)
}

// MostCall is how many bytes a call may hold.
const MostCall = 5 << 20

// ErrUnsigned tells that a call is not signed by the secret of its source.
var ErrUnsigned = errors.New("the call is not signed as it must be")

// Called imports what a program calls with: messages (message/rfc822), or a table of outcomes
// in JSON. The call is signed by the secret of its source.
func (s *Sources) Called(ctx context.Context, id int64, h http.Header, body []byte, importing func(ctx context.Context, b store.BounceSource) (Imported, error)) (Imported, error) {
	b, err := s.Desk.Store.BounceSourceAtWork(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && b.Kind != store.SourceWebhook {
		return Imported{}, ErrUnsigned // nobody learns which there are
	}
	if err != nil {
		return Imported{}, err
	}
	known, err := s.Secrets.Open(b.Sealed, sourcePurpose)
	if err != nil {
		return Imported{}, err
	}
	if _, err := webhook.Verify(known, h, body, time.Now()); err != nil {
		return Imported{}, fmt.Errorf("%w: %w", ErrUnsigned, err)
	}
	imported, err := importing(ctx, b)
	if err != nil {
		return imported, err
	}
	b.Says = imported.Says()
	if err := s.Desk.Store.SetBounceSourceRead(ctx, b, imported.Messages); err != nil {
		return imported, err
	}
	return imported, s.Desk.Store.SetBounceSourceLook(ctx, b.ID, s.Desk.Now(), b.Says, false)
}

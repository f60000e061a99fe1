package account

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/letter"
	"varnet/internal/store"
)

// totpPurpose is what secrets of second factors are sealed for.
const totpPurpose = "second factor"

// ticketTOTP is between the QR code of a second factor and its first code.
const ticketTOTP = "totp"

// Confirm records that it is the person who has this session: by their password, or a code of
// the second factor.
func (a *Accounts) Confirm(ctx context.Context, c Caller, password, code string, from From) error {
	p, err := a.Store.Person(ctx, c.PersonID)
	if err != nil {
		return err
	}
	switch {
	case password != "":
		err = a.rightOwnPassword(ctx, p, password, from)
	case code != "" && p.TOTP != nil:
		err = a.rightFactor(ctx, p, code, from)
	default:
		err = refuse(Invalid, "Give your password, or a code of your second factor.")
	}
	if err != nil {
		return err
	}
	return a.Store.ConfirmSession(ctx, c.Session.ID)
}

// rightOwnPassword checks the password of somebody who is signed in.
func (a *Accounts) rightOwnPassword(ctx context.Context, p store.Person, password string, from From) error {
	who := accountSubject("password", p.Canonical)
	if err := a.allowed(ctx, who, networkSubject(from.Addr)); err != nil {
		return err
	}
	right, err := rightPassword(ctx, password, p.Password)
	if err != nil {
		return err
	}
	if !right {
		if err := a.count(ctx, who, networkSubject(from.Addr)); err != nil {
			return err
		}
		return refuse(Unproved, "This is not your password.")
	}
	return a.forgive(ctx, who)
}

// ConfirmByLetter sends a code to somebody who is signed in, to confirm that it is them.
func (a *Accounts) ConfirmByLetter(ctx context.Context, c Caller, from From) (Step, error) {
	at, err := mailbox(c.Address)
	if err != nil {
		return Step{}, err
	}
	if err := a.mayWrite(ctx, at.Canonical(), from); err != nil {
		return Step{}, err
	}
	code := newCode()
	ticket, err := a.codeTicket(ctx, coded{For: toConfirm, Canonical: at.Canonical()}, code, &c.PersonID, c.Address, a.codeLetter(toConfirm, code, from))
	return Step{Next: EnterCode, Ticket: ticket, Says: fmt.Sprintf("A code is on its way to %s.", c.Address), Person: c.PersonID}, err
}

// ConfirmByCode confirms with the code of that letter.
func (a *Accounts) ConfirmByCode(ctx context.Context, c Caller, ticket, code string, from From) error {
	t, _, err := a.checked(ctx, ticket, code, from, toConfirm)
	if err != nil {
		return err
	}
	if t.PersonID == nil || *t.PersonID != c.PersonID {
		return gone(store.ErrNotFound)
	}
	return a.Store.ConfirmSession(ctx, c.Session.ID)
}

// Rename changes the name of the person who calls.
func (a *Accounts) Rename(ctx context.Context, c Caller, name string) error {
	name, err := named(name)
	if err != nil {
		return err
	}
	return a.Store.SetName(ctx, c.PersonID, name)
}

// SetPassword changes the password of the person who calls. Their other sessions end.
func (a *Accounts) SetPassword(ctx context.Context, c Caller, password string, from From) error {
	if err := c.Confirmed(); err != nil {
		return err
	}
	if weak := WeakPassword(password, c.Address, c.Name); weak != "" {
		return refuse(Invalid, "%s", weak)
	}
	hash, err := HashPassword(ctx, password)
	if err != nil {
		return err
	}
	return a.change(ctx, c, a.passwordLetter(ctx, from), func(s *store.Store) error {
		if err := s.SetPassword(ctx, c.PersonID, hash); err != nil {
			return err
		}
		_, err := s.EndSessions(ctx, c.PersonID, c.Session.ID)
		return err
	})
}

// change makes a change of how somebody signs in, and writes to them about it, also at another address.
func (a *Accounts) change(ctx context.Context, c Caller, l letter.Letter, do func(*store.Store) error, also ...string) error {
	return a.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if err := do(s); err != nil {
			return err
		}
		for _, to := range append([]string{c.Address}, also...) {
			if err := a.Post(ctx, tx, to, l); err != nil {
				return err
			}
		}
		return nil
	})
}

// Move sends a code to a new address of the person who calls.
func (a *Accounts) Move(ctx context.Context, c Caller, addr string, from From) (Step, error) {
	if err := c.Confirmed(); err != nil {
		return Step{}, err
	}
	at, err := mailbox(addr)
	if err != nil {
		return Step{}, err
	}
	if err := a.mayWrite(ctx, at.Canonical(), from); err != nil {
		return Step{}, err
	}
	code := newCode()
	l := a.codeLetter(toMove, code, from)
	if _, err := a.Store.PersonAt(ctx, at.Canonical()); err == nil {
		l, code = a.knownLetter(ctx, from), newCode() // whether there is an account is nobody else's to know
	} else if !errors.Is(err, store.ErrNotFound) {
		return Step{}, err
	}
	ticket, err := a.codeTicket(ctx, coded{For: toMove, Canonical: at.Canonical(), Address: at.Mailbox()}, code, &c.PersonID, at.Mailbox(), l)
	return Step{Next: EnterCode, Ticket: ticket, Says: fmt.Sprintf("A letter with a code is on its way to %s.", at.Mailbox()), Person: c.PersonID}, err
}

// Moved takes the new address with the code that was sent there. Both addresses are told.
func (a *Accounts) Moved(ctx context.Context, c Caller, ticket, code string, from From) error {
	t, d, err := a.checked(ctx, ticket, code, from, toMove)
	if err != nil {
		return err
	}
	if t.PersonID == nil || *t.PersonID != c.PersonID {
		return gone(store.ErrNotFound)
	}
	l := changeLetter(a.base(ctx), "The address of your account was changed", fmt.Sprintf("Your Varnet account had the address %s and has %s now.", c.Address, d.Address), from)
	err = a.change(ctx, c, l, func(s *store.Store) error { return s.SetAddress(ctx, c.PersonID, d.Address, d.Canonical) }, d.Address)
	if errors.Is(err, store.ErrTaken) {
		return refuse(Conflict, "There is an account at %s already.", d.Address)
	}
	return err
}

// Enrolment is a second factor that is being set up.
type Enrolment struct {
	Ticket, Secret, URI, QR string // QR is an SVG
}

// totpDraft is what the ticket of one holds.
type totpDraft struct{ Secret string }

// NewFactor begins to set a second factor up.
func (a *Accounts) NewFactor(ctx context.Context, c Caller) (Enrolment, error) {
	if err := c.Confirmed(); err != nil {
		return Enrolment{}, err
	}
	e := Enrolment{Secret: newTOTP()}
	e.URI = totpURI(e.Secret, c.Address)
	var err error
	if e.QR, err = qrSVG(e.URI); err != nil {
		return e, err
	}
	e.Ticket, err = a.Store.NewTicket(ctx, store.Ticket{Kind: ticketTOTP, PersonID: &c.PersonID, Data: a.sealed(ticketTOTP, totpDraft{e.Secret}), ExpiresAt: time.Now().Add(stepLife)})
	return e, err
}

// SetFactor sets the second factor up with its first code, and returns the recovery codes.
func (a *Accounts) SetFactor(ctx context.Context, c Caller, ticket, code string, from From) ([]string, error) {
	t, err := a.Store.TryCode(ctx, ticketTOTP, ticket, mostTries)
	if err != nil {
		return nil, gone(err)
	}
	if *t.PersonID != c.PersonID {
		return nil, gone(store.ErrNotFound)
	}
	var d totpDraft
	if err := a.opened(t, &d); err != nil {
		return nil, err
	}
	step, err := totpStepOf(d.Secret, code, time.Now())
	if err != nil {
		return nil, err
	}
	if step == 0 {
		return nil, refuse(Unproved, "This is not the code that the app shows now. Check that the clocks of both devices are right.")
	}
	codes := newRecoveryCodes()
	return codes, a.change(ctx, c, changeLetter(a.base(ctx), "A second factor was added to your account", "From now on signing in takes a code of your authenticator app, too.", from), func(s *store.Store) error {
		if _, err := s.TakeTicket(ctx, ticketTOTP, ticket); err != nil {
			return gone(err)
		}
		return s.SetTOTP(ctx, c.PersonID, a.Secrets.Seal(d.Secret, totpPurpose), step, codes)
	})
}

// RemoveFactor takes the second factor away.
func (a *Accounts) RemoveFactor(ctx context.Context, c Caller, from From) error {
	if err := c.Confirmed(); err != nil {
		return err
	}
	return a.change(ctx, c, changeLetter(a.base(ctx), "The second factor of your account was removed", "Signing in no longer takes a second factor.", from), func(s *store.Store) error {
		return s.SetTOTP(ctx, c.PersonID, nil, 0, nil)
	})
}

// NewRecoveryCodes puts fresh recovery codes in the place of those there were.
func (a *Accounts) NewRecoveryCodes(ctx context.Context, c Caller, from From) ([]string, error) {
	if err := c.Confirmed(); err != nil {
		return nil, err
	}
	p, err := a.Store.Person(ctx, c.PersonID)
	if err != nil {
		return nil, err
	}
	if p.TOTP == nil {
		return nil, refuse(Conflict, "There is no second factor yet, so there is nothing to recover.")
	}
	codes := newRecoveryCodes()
	return codes, a.change(ctx, c, changeLetter(a.base(ctx), "You have new recovery codes", "The recovery codes of your account were replaced; the earlier ones no longer work.", from), func(s *store.Store) error {
		return s.SetRecoveryCodes(ctx, c.PersonID, codes)
	})
}

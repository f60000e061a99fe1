package account

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/store"
)

// SignUpMode is who may sign up.
type SignUpMode string

// The modes.
const (
	Open       SignUpMode = "open"       // anybody
	Invitation SignUpMode = "invitation" // who was invited
	Closed     SignUpMode = "closed"     // nobody
)

// Newcomer is somebody who signs up. An empty password is none: they sign in by code.
type Newcomer struct{ Name, Address, Password string }

// read tidies a newcomer and hashes their password.
func (a *Accounts) read(ctx context.Context, n Newcomer) (store.Person, error) {
	at, err := mailbox(n.Address)
	if err != nil {
		return store.Person{}, err
	}
	name, err := named(n.Name)
	if err != nil {
		return store.Person{}, err
	}
	p := store.Person{Address: at.Mailbox(), Canonical: at.Canonical(), Name: name}
	if n.Password == "" {
		return p, nil
	}
	if weak := WeakPassword(n.Password, p.Address, p.Name); weak != "" {
		return p, refuse(Invalid, "%s", weak)
	}
	hash, err := HashPassword(ctx, n.Password)
	p.Password = &hash
	return p, err
}

// SignUp sends a code to a newcomer's address. Whoever has an account at that address already
// is told so by the letter, and nobody else is.
func (a *Accounts) SignUp(ctx context.Context, n Newcomer, from From) (Step, error) {
	i, err := a.Store.Installation(ctx)
	if err != nil {
		return Step{}, err
	}
	if SignUpMode(i.SignUp) != Open {
		return Step{}, refuse(Forbidden, "Signing up here takes an invitation. Ask somebody in the team you want to join.")
	}
	p, err := a.read(ctx, n)
	if err != nil {
		return Step{}, err
	}
	if err := a.mayWrite(ctx, p.Canonical, from); err != nil {
		return Step{}, err
	}
	_, err = a.Store.PersonAt(ctx, p.Canonical)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Step{}, err
	}
	known, code := err == nil, newCode()
	l := a.codeLetter(toSignUp, code, from)
	c := coded{For: toSignUp, Canonical: p.Canonical, Address: p.Address, Name: p.Name}
	if p.Password != nil {
		c.Password = *p.Password
	}
	if known {
		l, code = a.knownLetter(ctx, from), newCode() // a code that nobody is told
	}
	ticket, err := a.codeTicket(ctx, c, code, nil, p.Address, l)
	return Step{Next: EnterCode, Ticket: ticket, Says: fmt.Sprintf("A letter with a code is on its way to %s. It is good for 10 minutes.", p.Address)}, err
}

// signUpDone makes the account of a newcomer whose address is proved, with a workspace of
// their own.
func (a *Accounts) signUpDone(ctx context.Context, c coded, from From) (Step, error) {
	p := store.Person{Address: c.Address, Canonical: c.Canonical, Name: c.Name}
	if c.Password != "" {
		p.Password = &c.Password
	}
	err := a.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) (err error) {
		if p, err = s.NewPerson(ctx, p); err != nil {
			return err
		}
		return ownWorkspace(ctx, s, p)
	})
	if errors.Is(err, store.ErrTaken) {
		return Step{}, refuse(Conflict, "There is an account at this address already. Sign in.")
	}
	if err != nil {
		return Step{}, err
	}
	return a.finish(ctx, p, from, false)
}

// ownWorkspace makes the workspace in which a newcomer begins.
func ownWorkspace(ctx context.Context, s *store.Store, p store.Person) error {
	w, err := s.NewWorkspace(ctx, p.Name)
	if err != nil {
		return err
	}
	return s.Join(ctx, w.ID, p.ID, string(Owner))
}

// Join signs a newcomer up by an invitation, whose letter has proved their address.
func (a *Accounts) Join(ctx context.Context, secret string, n Newcomer, from From) (Step, error) {
	i, err := a.Store.Invitation(ctx, secret)
	if err != nil {
		return Step{}, noInvitation(err)
	}
	n.Address = i.Address
	p, err := a.read(ctx, n)
	if err != nil {
		return Step{}, err
	}
	err = a.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) (err error) {
		if err := s.TakeInvitation(ctx, secret); err != nil {
			return noInvitation(err)
		}
		if p, err = s.NewPerson(ctx, p); err != nil {
			return err
		}
		return a.join(ctx, s, tx, i, p.ID, p.Name)
	})
	if errors.Is(err, store.ErrTaken) {
		return Step{}, refuse(Conflict, "There is an account at %s already. Sign in, and accept the invitation then.", i.Address)
	}
	if err != nil {
		return Step{}, err
	}
	return a.finish(ctx, p, from, false)
}

func noInvitation(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return refuse(Unproved, "This invitation was used or withdrawn, or has expired. Ask for a new one.")
	}
	return err
}

// ticketOwner is the one-time link by which somebody becomes an owner of the installation.
const (
	ticketOwner = "owner"
	ownerLife   = 24 * time.Hour
)

// OwnerLink makes the secret of a link by which somebody signs up as an owner of the
// installation. It is good for a day and once; an earlier one is not any more.
func (a *Accounts) OwnerLink(ctx context.Context) (secret string, err error) {
	err = a.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		if err := s.EndTickets(ctx, ticketOwner); err != nil {
			return err
		}
		secret, err = s.NewTicket(ctx, store.Ticket{Kind: ticketOwner, ExpiresAt: time.Now().Add(ownerLife)})
		return err
	})
	return secret, err
}

// Begin signs an owner of the installation up by the link.
func (a *Accounts) Begin(ctx context.Context, secret string, n Newcomer, from From) (Step, error) {
	if _, err := a.Store.Ticket(ctx, ticketOwner, secret); err != nil {
		return Step{}, noLink(err)
	}
	if n.Password == "" {
		return Step{}, refuse(Invalid, "An owner of the installation needs a password: no letters may be sent yet.")
	}
	p, err := a.read(ctx, n)
	if err != nil {
		return Step{}, err
	}
	p.Owner = true
	err = a.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) (err error) {
		if _, err := s.TakeTicket(ctx, ticketOwner, secret); err != nil {
			return noLink(err)
		}
		if p, err = s.NewPerson(ctx, p); err != nil {
			return err
		}
		return firstWorkspace(ctx, s, p)
	})
	if errors.Is(err, store.ErrTaken) {
		return Step{}, refuse(Conflict, "There is an account at this address already. Whoever runs the service makes it an owner with: varnet person owner %s", n.Address)
	}
	if err != nil {
		return Step{}, err
	}
	return a.finish(ctx, p, from, false)
}

func noLink(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return refuse(Unproved, "This link was used, or is older than a day. Whoever runs the service makes a new one with: varnet person link")
	}
	return err
}

// FirstWorkspace is the name of the workspace that an installation begins with.
const FirstWorkspace = "default"

// firstWorkspace puts an owner of the installation into the workspace that it begins with.
func firstWorkspace(ctx context.Context, s *store.Store, p store.Person) error {
	w, err := s.WorkspaceNamed(ctx, FirstWorkspace)
	if err != nil {
		return err
	}
	return s.Join(ctx, w.ID, p.ID, string(Owner))
}

// Make makes a person on the installation itself, in a workspace (made if need be), whose
// address needs no proof.
func (a *Accounts) Make(ctx context.Context, n Newcomer, workspace string, role Role, owner bool) (store.Person, error) {
	p, err := a.read(ctx, n)
	if err != nil {
		return p, err
	}
	p.Owner = owner
	err = a.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) (err error) {
		if p, err = s.NewPerson(ctx, p); err != nil {
			return err
		}
		w, err := s.WorkspaceNamed(ctx, workspace)
		if err != nil {
			return err
		}
		return s.Join(ctx, w.ID, p.ID, string(role))
	})
	if errors.Is(err, store.ErrTaken) {
		err = refuse(Conflict, "There is an account at %s already.", p.Address)
	}
	return p, err
}

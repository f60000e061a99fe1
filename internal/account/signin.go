package account

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/event"
	"varnet/internal/letter"
	"varnet/internal/store"
)

// Next is what comes next on the way in.
type Next string

// The steps.
const (
	Done        Next = "done"          // signed in
	EnterCode   Next = "code"          // type the code of the letter
	EnterFactor Next = "second-factor" // type a code of the second factor
	NewPassword Next = "new-password"  // choose one
)

// Step is how far somebody is on the way in.
type Step struct {
	Next    Next
	Ticket  string // goes with what comes next
	Session string // the secret of the session that was opened
	Device  string // the secret by which the browser is known again
	Says    string
	Person  int64 // who it is, once that is proved
}

// The tickets: between a letter's code and its typing, the password and the second factor,
// the code of a forgotten password and the new one.
const (
	ticketCode     = "code"
	ticketFactor   = "second factor"
	ticketPassword = "new password"
)

// How long steps may take, and how many wrong codes a ticket takes.
const (
	codeLife   = 10 * time.Minute
	stepLife   = 10 * time.Minute
	mostTries  = 5
	inviteLife = 7 * 24 * time.Hour
)

// purpose is what a code by letter is for.
type purpose string

const (
	toSignUp  purpose = "sign up"
	toSignIn  purpose = "sign in"
	toReset   purpose = "reset"
	toMove    purpose = "move" // to another address
	toConfirm purpose = "confirm"
)

// coded is what a ticket of a code holds.
type coded struct {
	For       purpose
	Canonical string // whose tries count
	Address   string `json:",omitempty"`
	Name      string `json:",omitempty"`
	Password  string `json:",omitempty"` // its hash
}

// WithPassword signs in with address and password.
func (a *Accounts) WithPassword(ctx context.Context, addr, password string, from From) (Step, error) {
	at, err := mailbox(addr)
	if err != nil {
		return Step{}, wrongPair()
	}
	who := accountSubject("password", at.Canonical())
	if err := a.allowed(ctx, who, networkSubject(from.Addr)); err != nil {
		return Step{}, err
	}
	p, err := a.Store.PersonAt(ctx, at.Canonical())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Step{}, err
	}
	right, err := rightPassword(ctx, password, p.Password)
	if err != nil {
		return Step{}, err
	}
	if !right {
		if err := a.count(ctx, who, networkSubject(from.Addr)); err != nil {
			return Step{}, err
		}
		return Step{Person: p.ID}, wrongPair()
	}
	if err := a.forgive(ctx, who); err != nil {
		return Step{}, err
	}
	return a.finish(ctx, p, from, false)
}

func wrongPair() error {
	return refuse(Unproved, "The address or the password is wrong. Check both; a forgotten password can be set again.")
}

// lettersSent returns an error where no letters can be sent.
func (a *Accounts) lettersSent(ctx context.Context) error {
	_, err := a.Office.Settings(ctx)
	if errors.Is(err, letter.ErrNone) {
		return refuse(Conflict, "This installation sends no letters yet, so there are no codes. Ask an owner of the installation.")
	}
	return err
}

// ByCode sends a code to an address, by which its owner signs in. What is answered does not
// depend on whether there is one.
func (a *Accounts) ByCode(ctx context.Context, addr string, from From) (Step, error) {
	return a.codeTo(ctx, addr, from, toSignIn)
}

// Forgotten sends a code to an address, by which its owner sets a new password.
func (a *Accounts) Forgotten(ctx context.Context, addr string, from From) (Step, error) {
	return a.codeTo(ctx, addr, from, toReset)
}

func (a *Accounts) codeTo(ctx context.Context, addr string, from From, why purpose) (Step, error) {
	at, err := mailbox(addr)
	if err != nil {
		return Step{}, err
	}
	if err := a.mayWrite(ctx, at.Canonical(), from); err != nil {
		return Step{}, err
	}
	p, err := a.Store.PersonAt(ctx, at.Canonical())
	known := err == nil
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Step{}, err
	}
	code, to := newCode(), p.Address
	c := coded{For: why, Canonical: at.Canonical()}
	l := a.codeLetter(why, code, from)
	ticket, err := a.codeTicket(ctx, c, code, personIf(known, p.ID), to, l)
	return Step{Next: EnterCode, Ticket: ticket, Says: fmt.Sprintf("If %s has an account here, a code is on its way. It is good for 10 minutes.", at.Mailbox()), Person: 0}, err
}

func personIf(known bool, id int64) *int64 {
	if !known {
		return nil
	}
	return &id
}

// mayWrite counts a letter that anybody may ask for, and refuses where there were too many.
func (a *Accounts) mayWrite(ctx context.Context, canonical string, from From) error {
	if err := a.lettersSent(ctx); err != nil {
		return err
	}
	to, by := lettersTo(canonical), lettersFor(from.Addr)
	if err := a.allowed(ctx, to, by); err != nil {
		return err
	}
	return a.count(ctx, to, by)
}

// codeTicket makes a ticket for a code and posts the letter with it. A letter to nobody takes
// the same time.
func (a *Accounts) codeTicket(ctx context.Context, c coded, code string, person *int64, to string, l letter.Letter) (ticket string, err error) {
	err = a.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		ticket, err = s.NewTicket(ctx, store.Ticket{Kind: ticketCode, PersonID: person, Code: a.codeHash(code), Data: a.sealed(ticketCode, c), ExpiresAt: time.Now().Add(codeLife)})
		if err != nil {
			return err
		}
		return a.Post(ctx, tx, to, l)
	})
	return ticket, err
}

func (a *Accounts) codeHash(code string) []byte { return a.Secrets.Fingerprint(code, "code") }

// checked takes a ticket with the code that goes with it.
func (a *Accounts) checked(ctx context.Context, ticket, code string, from From, want ...purpose) (store.Ticket, coded, error) {
	var c coded
	t, err := a.Store.Ticket(ctx, ticketCode, ticket)
	if err != nil {
		return t, c, gone(err)
	}
	if err := a.opened(t, &c); err != nil {
		return t, c, err
	}
	fits := false
	for _, w := range want {
		fits = fits || c.For == w
	}
	if !fits {
		return t, c, gone(store.ErrNotFound)
	}
	who := accountSubject("code", c.Canonical)
	if err := a.allowed(ctx, who, networkSubject(from.Addr)); err != nil {
		return t, c, err
	}
	if t, err = a.Store.TryCode(ctx, ticketCode, ticket, mostTries); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return t, c, refuse(Unproved, "Too many wrong codes. Have a new one sent.")
		}
		return t, c, err
	}
	if subtle.ConstantTimeCompare(t.Code, a.codeHash(typed(code))) != 1 {
		if err := a.count(ctx, who, networkSubject(from.Addr)); err != nil {
			return t, c, err
		}
		return t, c, refuse(Unproved, "This is not the code of the latest letter. %s", triesLeft(mostTries-t.Tries))
	}
	if t, err = a.Store.TakeTicket(ctx, ticketCode, ticket); err != nil {
		return t, c, gone(err)
	}
	return t, c, a.forgive(ctx, who)
}

func triesLeft(n int) string {
	switch n {
	case 0:
		return "Have a new one sent."
	case 1:
		return "You have one more try."
	}
	return fmt.Sprintf("You have %d more tries.", n)
}

// Code goes on with the code of a letter: it signs up or in, or lets a new password be chosen.
func (a *Accounts) Code(ctx context.Context, ticket, code string, from From) (Step, error) {
	t, c, err := a.checked(ctx, ticket, code, from, toSignUp, toSignIn, toReset)
	if err != nil {
		return Step{}, err
	}
	if c.For == toSignUp {
		return a.signUpDone(ctx, c, from)
	}
	if t.PersonID == nil { // nobody was sent this code
		return Step{}, refuse(Unproved, "This is not the code of the latest letter. %s", triesLeft(0))
	}
	p, err := a.Store.Person(ctx, *t.PersonID)
	if err != nil {
		return Step{}, gone(err)
	}
	if c.For == toSignIn {
		return a.finish(ctx, p, from, false)
	}
	next, err := a.Store.NewTicket(ctx, store.Ticket{Kind: ticketPassword, PersonID: t.PersonID, ExpiresAt: time.Now().Add(stepLife)})
	return Step{Next: NewPassword, Ticket: next, Says: "Choose a new password.", Person: p.ID}, err
}

// ResetPassword sets a new password with the ticket of a forgotten one. All sessions end.
func (a *Accounts) ResetPassword(ctx context.Context, ticket, password string, from From) (Step, error) {
	t, err := a.Store.Ticket(ctx, ticketPassword, ticket)
	if err != nil {
		return Step{}, gone(err)
	}
	p, err := a.Store.Person(ctx, *t.PersonID)
	if err != nil {
		return Step{}, gone(err)
	}
	if weak := WeakPassword(password, p.Address, p.Name); weak != "" {
		return Step{Person: p.ID}, refuse(Invalid, "%s", weak)
	}
	hash, err := HashPassword(ctx, password)
	if err != nil {
		return Step{}, err
	}
	err = a.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		if _, err := s.TakeTicket(ctx, ticketPassword, ticket); err != nil {
			return gone(err)
		}
		if err := s.SetPassword(ctx, p.ID, hash); err != nil {
			return err
		}
		if _, err := s.EndSessions(ctx, p.ID, 0); err != nil {
			return err
		}
		return a.Post(ctx, tx, p.Address, a.passwordLetter(ctx, from))
	})
	if err != nil {
		return Step{}, err
	}
	return a.finish(ctx, p, from, false)
}

// Factor goes on with a code of the second factor, or one for recovery.
func (a *Accounts) Factor(ctx context.Context, ticket, code string, from From) (Step, error) {
	t, err := a.Store.Ticket(ctx, ticketFactor, ticket)
	if err != nil {
		return Step{}, gone(err)
	}
	p, err := a.Store.Person(ctx, *t.PersonID)
	if err != nil {
		return Step{}, gone(err)
	}
	if _, err := a.Store.TryCode(ctx, ticketFactor, ticket, mostTries); err != nil {
		return Step{Person: p.ID}, gone(err)
	}
	if err := a.rightFactor(ctx, p, code, from); err != nil {
		return Step{Person: p.ID}, err
	}
	if _, err := a.Store.TakeTicket(ctx, ticketFactor, ticket); err != nil {
		return Step{Person: p.ID}, gone(err)
	}
	return a.finish(ctx, p, from, true)
}

// rightFactor takes a code of somebody's second factor, or one for recovery, each once.
func (a *Accounts) rightFactor(ctx context.Context, p store.Person, code string, from From) error {
	who := accountSubject("second factor", p.Canonical)
	if err := a.allowed(ctx, who, networkSubject(from.Addr)); err != nil {
		return err
	}
	right, err := a.takesFactor(ctx, p, code)
	if err != nil {
		return err
	}
	if !right {
		if err := a.count(ctx, who, networkSubject(from.Addr)); err != nil {
			return err
		}
		return refuse(Unproved, "This code is wrong, or was used before. Wait for the next one, or take a recovery code.")
	}
	return a.forgive(ctx, who)
}

func (a *Accounts) takesFactor(ctx context.Context, p store.Person, code string) (bool, error) {
	if form := recoveryForm(code); form != "" {
		return a.Store.UseRecoveryCode(ctx, p.ID, form)
	}
	secret, err := a.Secrets.Open(p.TOTP, totpPurpose)
	if err != nil {
		return false, err
	}
	step, err := totpStepOf(secret, code, time.Now())
	if err != nil || step == 0 {
		return false, err
	}
	return a.Store.UseTOTP(ctx, p.ID, step)
}

// finish signs a person in who has proved who they are, or asks for their second factor.
func (a *Accounts) finish(ctx context.Context, p store.Person, from From, factor bool) (Step, error) {
	if p.TOTP != nil && !factor {
		ticket, err := a.Store.NewTicket(ctx, store.Ticket{Kind: ticketFactor, PersonID: &p.ID, ExpiresAt: time.Now().Add(stepLife)})
		return Step{Next: EnterFactor, Ticket: ticket, Says: "Type the code that your authenticator app shows now, or one of your recovery codes.", Person: p.ID}, err
	}
	step := Step{Next: Done, Person: p.ID, Device: from.Device, Says: fmt.Sprintf("Signed in as %s.", p.Name)}
	if step.Device == "" {
		step.Device = newSecret()
	}
	err := a.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) (err error) {
		if step.Session, err = s.NewSession(ctx, store.Session{PersonID: p.ID, Device: DeviceOf(from.Agent), Place: from.Addr}); err != nil {
			return err
		}
		known, first, err := s.KnowsDevice(ctx, p.ID, step.Device)
		if err != nil || known || first {
			return err
		}
		device := DeviceOf(from.Agent)
		if err := a.Happened(ctx, s, tx, event.Event{Code: event.DeviceNew, Person: p.ID, Data: event.Data{Device: device},
			Says: fmt.Sprintf("Your account was signed in to with %s from %s. If that was not you, sign out everywhere and choose a new password.", device, from.Addr)}); err != nil {
			return err
		}
		return a.Post(ctx, tx, p.Address, a.deviceLetter(ctx, p, from))
	})
	return step, err
}

// newSecret makes 178 random bits.
func newSecret() string { return drawn(keyRandom, alphabet) }

// AsDemo signs in as the person of the demo, for whom anybody on this machine may be.
func (a *Accounts) AsDemo(ctx context.Context, from From) (Step, error) {
	if a.Demo == "" || !from.Addr.IsLoopback() {
		return Step{}, refuse(Forbidden, "This is not a demo.")
	}
	p, err := a.Store.PersonAt(ctx, strings.ToLower(a.Demo))
	if err != nil {
		return Step{}, gone(err)
	}
	return a.finish(ctx, p, from, true)
}

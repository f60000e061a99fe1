package account

import (
	"context"
	"errors"
	"time"

	"varnet/internal/store"
)

// ticketDevice is what a device waits with to be let in (RFC 8628).
const ticketDevice = "device"

// DeviceWait is how often a device may ask whether it was let in (RFC 8628, 3.5).
const DeviceWait = 5 * time.Second

// deviceData is what the ticket of a device holds.
type deviceData struct{ Device, Place string }

// Device is a device that waits to be let in.
type Device struct {
	Name, Place string
	At          time.Time
}

// AskIn begins to let a device in that has no browser: it shows the code, and asks with the
// secret whether somebody has typed it.
func (a *Accounts) AskIn(ctx context.Context, from From) (secret, code string, expires time.Time, err error) {
	by := lettersFor(from.Addr)
	if err := a.allowed(ctx, by); err != nil {
		return "", "", expires, err
	}
	if err := a.count(ctx, by); err != nil {
		return "", "", expires, err
	}
	expires = time.Now().Add(codeLife)
	for range 5 { // a code that another device has is taken by nobody
		code = newUserCode()
		secret, err = a.Store.NewTicket(ctx, store.Ticket{Kind: ticketDevice, Code: a.codeHash(code), Data: a.sealed(ticketDevice, deviceData{DeviceOf(from.Agent), from.Addr.String()}), ExpiresAt: expires})
		if !errors.Is(err, store.ErrTaken) {
			break
		}
	}
	return secret, code, expires, err
}

// Waiting returns the device that shows a code, for the person to see what they would let in.
func (a *Accounts) Waiting(ctx context.Context, c Caller, code string, from From) (Device, error) {
	who := accountSubject("device", c.Address)
	if err := a.allowed(ctx, who, networkSubject(from.Addr)); err != nil {
		return Device{}, err
	}
	t, err := a.Store.DeviceTicket(ctx, a.codeHash(userForm(code)))
	if errors.Is(err, store.ErrNotFound) {
		if err := a.count(ctx, who, networkSubject(from.Addr)); err != nil {
			return Device{}, err
		}
		return Device{}, refuse(Unproved, "No device shows this code now. Codes are good for 10 minutes.")
	}
	if err != nil {
		return Device{}, err
	}
	var d deviceData
	err = a.opened(t, &d)
	return Device{d.Device, d.Place, t.At}, err
}

// LetIn lets the device that shows a code in, or turns it away.
func (a *Accounts) LetIn(ctx context.Context, c Caller, code string, in bool, from From) (Device, error) {
	d, err := a.Waiting(ctx, c, code, from)
	if err != nil {
		return d, err
	}
	person := int64(0)
	if in {
		if err := c.Confirmed(); err != nil {
			return d, err
		}
		person = c.PersonID
	}
	return d, gone(a.Store.LetDeviceIn(ctx, a.codeHash(userForm(code)), person))
}

// ErrWaiting tells a device that nobody has let it in yet; ErrTooSoon, that it asks too often.
var (
	ErrWaiting = errors.New("nobody has let the device in yet")
	ErrTooSoon = errors.New("the device asks too often")
)

// IsIn returns the secret of the session of a device that was let in.
func (a *Accounts) IsIn(ctx context.Context, secret string, from From) (Step, error) {
	before, err := a.Store.SeeTicket(ctx, ticketDevice, secret)
	if err != nil {
		return Step{}, gone(err)
	}
	t, err := a.Store.Ticket(ctx, ticketDevice, secret)
	if err != nil {
		return Step{}, gone(err)
	}
	if t.PersonID == nil {
		if time.Since(before) < DeviceWait-time.Second {
			return Step{}, ErrTooSoon
		}
		return Step{}, ErrWaiting
	}
	if _, err := a.Store.TakeTicket(ctx, ticketDevice, secret); err != nil {
		return Step{}, gone(err)
	}
	session, err := a.Store.NewSession(ctx, store.Session{PersonID: *t.PersonID, Device: DeviceOf(from.Agent), Place: from.Addr, CommandLine: true})
	return Step{Next: Done, Session: session, Person: *t.PersonID}, err
}

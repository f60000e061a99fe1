package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
	"varnet/internal/store"
)

func (a *API) registerPersons(h huma.API) {
	huma.Register(h, operation("get-person", http.MethodGet, "/person", "Your account"), a.person)
	huma.Register(h, operation("rename-person", http.MethodPatch, "/person", "Change your name"), a.renamePerson)
	huma.Register(h, noContent(operation("set-password", http.MethodPut, "/person/password", "Change your password; your other sessions end")), a.setPassword)
	huma.Register(h, operation("move-address", http.MethodPost, "/person/address", "Have a code sent to a new address of yours"), a.moveAddress)
	huma.Register(h, operation("confirm-address", http.MethodPost, "/person/address/confirm", "Take the new address with its code"), a.confirmAddress)
	huma.Register(h, operation("draft-second-factor", http.MethodPost, "/person/second-factor", "Begin to set a second factor up"), a.draftFactor)
	huma.Register(h, operation("set-second-factor", http.MethodPut, "/person/second-factor", "Set the second factor up with its first code"), a.setFactor)
	huma.Register(h, operation("remove-second-factor", http.MethodDelete, "/person/second-factor", "Remove the second factor"), a.removeFactor)
	huma.Register(h, operation("make-recovery-codes", http.MethodPost, "/person/recovery-codes", "Replace the recovery codes by new ones"), a.makeRecoveryCodes)
	huma.Register(h, operation("draft-passkey", http.MethodPost, "/person/passkeys/options", "What a browser is asked to make a passkey"), a.draftPasskey)
	huma.Register(h, creates(operation("add-passkey", http.MethodPost, "/person/passkeys", "Add the passkey that the browser made")), a.addPasskey)
	huma.Register(h, operation("remove-passkey", http.MethodDelete, "/person/passkeys/{id}", "Remove a passkey"), a.removePasskey)
	huma.Register(h, operation("sign-out-everywhere", http.MethodDelete, "/person/sessions", "End all your sessions, this one too"), a.signOutEverywhere)
	huma.Register(h, operation("end-session", http.MethodDelete, "/person/sessions/{id}", "End one of your sessions"), a.endSession)
	huma.Register(h, operation("look-at-device", http.MethodPost, "/devices/look", "Which device shows a code"), a.lookAtDevice)
	huma.Register(h, operation("answer-device", http.MethodPost, "/devices/answer", "Let the device in that shows a code, or turn it away"), a.answerDevice)
}

type personOutput struct{ Body contract.Person }

func (a *API) person(ctx context.Context, _ *struct{}) (*personOutput, error) {
	c := callerOf(ctx)
	p, err := a.store.Person(ctx, c.PersonID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	codes, err := a.store.RecoveryCodes(ctx, p.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	keys, err := a.store.Passkeys(ctx, p.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	sessions, err := a.store.SessionsOf(ctx, p.ID)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &personOutput{contract.Person{Who: contract.Who{ID: p.ID, Name: p.Name, Address: p.Address}, Password: p.Password != nil, SecondFactor: p.TOTP != nil, RecoveryCodes: codes,
		Passkeys: contract.Each(keys, passkeyBody),
		Sessions: contract.Each(sessions, func(s store.Session) contract.PersonSession {
			return contract.PersonSession{ID: s.ID, Device: s.Device, Place: s.Place.String(), CommandLine: s.CommandLine, CreatedAt: s.CreatedAt, SeenAt: s.SeenAt, Yours: s.ID == c.Session.ID}
		})}}, nil
}

func passkeyBody(k store.Passkey) contract.Passkey {
	return contract.Passkey{ID: k.ID, Name: k.Name, CreatedAt: k.CreatedAt, LastUsedAt: k.LastUsedAt}
}

func (a *API) renamePerson(ctx context.Context, in *struct{ Body contract.PersonName }) (*personOutput, error) {
	if err := a.accounts.Rename(ctx, callerOf(ctx), in.Body.Name); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.person(ctx, nil)
}

func (a *API) setPassword(ctx context.Context, in *struct {
	Sender
	Body contract.Password
}) (*struct{}, error) {
	return nil, a.failed(ctx, a.accounts.SetPassword(ctx, callerOf(ctx), in.Body.Password, in.from))
}

func (a *API) moveAddress(ctx context.Context, in *addressInput) (*stepOutput, error) {
	a.aboutAddress(ctx, in.Body.Address)
	return a.step(ctx, &in.Sender)(a.accounts.Move(ctx, callerOf(ctx), in.Body.Address, in.from))
}

func (a *API) confirmAddress(ctx context.Context, in *codeInput) (*personOutput, error) {
	if err := a.accounts.Moved(ctx, callerOf(ctx), in.Body.Ticket, in.Body.Code, in.from); err != nil {
		return nil, a.failed(ctx, err)
	}
	return a.person(ctx, nil)
}

func (a *API) draftFactor(ctx context.Context, _ *struct{}) (*struct{ Body contract.Enrolment }, error) {
	e, err := a.accounts.NewFactor(ctx, callerOf(ctx))
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Enrolment }{contract.Enrolment(e)}, nil
}

type recoveryOutput struct{ Body contract.RecoveryCodes }

func (a *API) setFactor(ctx context.Context, in *codeInput) (*recoveryOutput, error) {
	codes, err := a.accounts.SetFactor(ctx, callerOf(ctx), in.Body.Ticket, in.Body.Code, in.from)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &recoveryOutput{contract.RecoveryCodes{Codes: codes}}, nil
}

func (a *API) removeFactor(ctx context.Context, in *struct{ Sender }) (*struct{}, error) {
	return nil, a.failed(ctx, a.accounts.RemoveFactor(ctx, callerOf(ctx), in.from))
}

func (a *API) makeRecoveryCodes(ctx context.Context, in *struct{ Sender }) (*recoveryOutput, error) {
	codes, err := a.accounts.NewRecoveryCodes(ctx, callerOf(ctx), in.from)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &recoveryOutput{contract.RecoveryCodes{Codes: codes}}, nil
}

func (a *API) draftPasskey(ctx context.Context, in *struct{ Sender }) (*questionOutput, error) {
	options, ticket, err := a.accounts.NewPasskey(ctx, callerOf(ctx), in.from)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &questionOutput{contract.PasskeyQuestion{Ticket: ticket, Options: options}}, nil
}

func (a *API) addPasskey(ctx context.Context, in *struct {
	Sender
	Body contract.NewPasskey
}) (*struct{ Body contract.Passkey }, error) {
	k, err := a.accounts.AddPasskey(ctx, callerOf(ctx), in.Body.Ticket, in.Body.Name, jsonOf(in.Body.Credential), in.from)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return &struct{ Body contract.Passkey }{passkeyBody(k)}, nil
}

func (a *API) removePasskey(ctx context.Context, in *struct {
	Sender
	ByID
}) (*struct{}, error) {
	return nil, a.failed(ctx, a.accounts.RemovePasskey(ctx, callerOf(ctx), in.ID, in.from))
}

func (a *API) signOutEverywhere(ctx context.Context, in *struct{ Sender }) (*signedOut, error) {
	if _, err := a.store.EndSessions(ctx, callerOf(ctx).PersonID, 0); err != nil {
		return nil, a.failed(ctx, err)
	}
	return &signedOut{in.gone()}, nil
}

func (a *API) endSession(ctx context.Context, in *ByID) (*struct{}, error) {
	return nil, a.failed(ctx, a.store.EndSessionOf(ctx, callerOf(ctx).PersonID, in.ID))
}

type deviceOutput struct{ Body contract.WaitingDevice }

// waitingDevice says which device waits, and what to mind: the code may have come from
// somebody who wants in (RFC 8628, 5.4).
func waitingDevice(device, place string, at time.Time) *deviceOutput {
	return &deviceOutput{contract.WaitingDevice{Device: device, Place: place, At: at,
		Says: "Let it in only if you have just started “varnet sign-in” yourself, on that machine. If somebody sent you this code or link, they want into your account: turn it away."}}
}

func (a *API) lookAtDevice(ctx context.Context, in *struct {
	Sender
	Body contract.DeviceCode
}) (*deviceOutput, error) {
	d, err := a.accounts.Waiting(ctx, callerOf(ctx), in.Body.Code, in.from)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return waitingDevice(d.Name, d.Place, d.At), nil
}

func (a *API) answerDevice(ctx context.Context, in *struct {
	Sender
	Body contract.DeviceAnswer
}) (*deviceOutput, error) {
	d, err := a.accounts.LetIn(ctx, callerOf(ctx), in.Body.Code, in.Body.LetIn, in.from)
	if err != nil {
		return nil, a.failed(ctx, err)
	}
	return waitingDevice(d.Name, d.Place, d.At), nil
}

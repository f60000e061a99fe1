package account

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"net/netip"
	"net/url"
	"slices"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"varnet/internal/store"
)

// The tickets between what the browser is asked to make or prove, and its answer.
const (
	ticketNewPasskey = "new passkey"
	ticketPasskey    = "passkey"
)

// relying is Varnet as passkeys know it: by the name of the host that people reach it by. A
// passkey is for one name, so the origin need not be trusted: a page of another name has none.
func (a *Accounts) relying(ctx context.Context, from From) (*webauthn.WebAuthn, error) {
	origin := a.base(ctx)
	if here, err := url.Parse(from.Origin); err == nil && (origin == "" || here.Hostname() == "localhost") {
		origin = here.Scheme + "://" + here.Host
	}
	u, err := url.Parse(origin)
	if err != nil || u.Hostname() == "" {
		return nil, refuse(Conflict, "Passkeys need to know where people reach the console. Set its base URL with the submission server.")
	}
	if _, err := netip.ParseAddr(u.Hostname()); err == nil {
		return nil, refuse(Conflict, "Passkeys are for names, and the console is reached by a number (%s). Open it by its name, such as localhost.", u.Hostname())
	}
	return webauthn.New(&webauthn.Config{RPID: u.Hostname(), RPDisplayName: "Varnet", RPOrigins: []string{u.Scheme + "://" + u.Host}})
}

// holder is a person as passkeys know them.
type holder struct {
	store.Person
	handle []byte
	keys   []webauthn.Credential
}

func (h holder) WebAuthnID() []byte                         { return h.handle }
func (h holder) WebAuthnName() string                       { return h.Address }
func (h holder) WebAuthnDisplayName() string                { return h.Name }
func (h holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

// handles are what the passkeys of a person may say whose they are: the person's number,
// sealed from others; the first goes into new ones.
func (a *Accounts) handles(p store.Person) (out [][]byte) {
	if p.Handle != nil {
		return [][]byte{p.Handle}
	}
	id := binary.BigEndian.AppendUint64(nil, uint64(p.ID))
	for _, f := range a.Secrets.Prints(string(id), "passkey handle") {
		out = append(out, slices.Concat(id, f.Sum))
	}
	return out
}

// holderOf reads a handle.
func (a *Accounts) holderOf(ctx context.Context, handle []byte) (h holder, err error) {
	if len(handle) < 8 {
		return h, store.ErrNotFound
	}
	h, err = a.holder(ctx, int64(binary.BigEndian.Uint64(handle)))
	if err == nil && !slices.ContainsFunc(a.handles(h.Person), func(one []byte) bool { return bytes.Equal(one, handle) }) {
		return holder{}, store.ErrNotFound
	}
	h.handle = handle
	return h, err
}

func (a *Accounts) holder(ctx context.Context, person int64) (h holder, err error) {
	if h.Person, err = a.Store.Person(ctx, person); err != nil {
		return h, err
	}
	h.handle = a.handles(h.Person)[0]
	keys, err := a.Store.Passkeys(ctx, person)
	for _, k := range keys {
		var c webauthn.Credential
		if err := json.Unmarshal([]byte(k.Record), &c); err != nil {
			return h, err
		}
		h.keys = append(h.keys, c)
	}
	return h, err
}

// mostPasskeys is how many somebody may have.
const mostPasskeys = 20

// NewPasskey asks the browser of the person who calls to make a passkey; options are what it
// is asked (WebAuthn, 5.4), the ticket goes with its answer.
func (a *Accounts) NewPasskey(ctx context.Context, c Caller, from From) (options any, ticket string, err error) {
	if err := c.Confirmed(); err != nil {
		return nil, "", err
	}
	rp, err := a.relying(ctx, from)
	if err != nil {
		return nil, "", err
	}
	h, err := a.holder(ctx, c.PersonID)
	if err != nil {
		return nil, "", err
	}
	if len(h.keys) >= mostPasskeys {
		return nil, "", refuse(Conflict, "You have %d passkeys; remove one first.", len(h.keys))
	}
	made, session, err := rp.BeginRegistration(h, webauthn.WithExclusions(webauthn.Credentials(h.keys).CredentialDescriptors()),
		webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired, UserVerification: protocol.VerificationRequired}))
	if err != nil {
		return nil, "", err
	}
	ticket, err = a.Store.NewTicket(ctx, store.Ticket{Kind: ticketNewPasskey, PersonID: &c.PersonID, Data: a.sealed(ticketNewPasskey, session), ExpiresAt: time.Now().Add(stepLife)})
	return made.Response, ticket, err
}

// AddPasskey takes the passkey that the browser made.
func (a *Accounts) AddPasskey(ctx context.Context, c Caller, ticket, name string, answer []byte, from From) (store.Passkey, error) {
	var k store.Passkey
	name, err := named(name)
	if err != nil {
		return k, err
	}
	rp, err := a.relying(ctx, from)
	if err != nil {
		return k, err
	}
	var session webauthn.SessionData
	t, err := a.Store.TakeTicket(ctx, ticketNewPasskey, ticket)
	if err != nil {
		return k, gone(err)
	}
	if *t.PersonID != c.PersonID {
		return k, gone(store.ErrNotFound)
	}
	if err := a.opened(t, &session); err != nil {
		return k, err
	}
	h, err := a.holder(ctx, c.PersonID)
	if err != nil {
		return k, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return k, notPasskey(err)
	}
	made, err := rp.CreateCredential(h, session, parsed)
	if err != nil {
		return k, notPasskey(err)
	}
	record, err := json.Marshal(made)
	if err != nil {
		return k, err
	}
	err = a.change(ctx, c, changeLetter(a.base(ctx), "A passkey was added to your account", "The passkey “"+name+"” signs in to your Varnet account from now on.", from), func(s *store.Store) error {
		if err := s.KeepHandle(ctx, c.PersonID, h.handle); err != nil {
			return err
		}
		k, err = s.AddPasskey(ctx, store.Passkey{PersonID: c.PersonID, Name: name, Credential: made.ID, Record: string(record)})
		return err
	})
	if errors.Is(err, store.ErrTaken) {
		return k, refuse(Conflict, "This passkey is there already.")
	}
	return k, err
}

func notPasskey(err error) error {
	var p *protocol.Error
	if errors.As(err, &p) && p.Details != "" {
		return refuse(Unproved, "The passkey was not accepted: %s.", p.Details)
	}
	return refuse(Unproved, "The passkey was not accepted.")
}

// RemovePasskey takes a passkey from the person who calls.
func (a *Accounts) RemovePasskey(ctx context.Context, c Caller, id int64, from From) error {
	if err := c.Confirmed(); err != nil {
		return err
	}
	return a.change(ctx, c, changeLetter(a.base(ctx), "A passkey of your account was removed", "It no longer signs you in.", from), func(s *store.Store) error {
		return s.RemovePasskey(ctx, c.PersonID, id)
	})
}

// AskPasskey asks a browser for a passkey, whosever it is.
func (a *Accounts) AskPasskey(ctx context.Context, from From) (options any, ticket string, err error) {
	rp, err := a.relying(ctx, from)
	if err != nil {
		return nil, "", err
	}
	asked, session, err := rp.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return nil, "", err
	}
	ticket, err = a.Store.NewTicket(ctx, store.Ticket{Kind: ticketPasskey, Data: a.sealed(ticketPasskey, session), ExpiresAt: time.Now().Add(stepLife)})
	return asked.Response, ticket, err
}

// WithPasskey signs in with a passkey, which is two factors: the device, and what unlocks it.
func (a *Accounts) WithPasskey(ctx context.Context, ticket string, answer []byte, from From) (Step, error) {
	h, err := a.provedByPasskey(ctx, ticket, answer, from)
	if err != nil {
		return Step{}, err
	}
	return a.finish(ctx, h.Person, from, true)
}

// ConfirmByPasskey confirms with a passkey that it is the person who has this session.
func (a *Accounts) ConfirmByPasskey(ctx context.Context, c Caller, ticket string, answer []byte, from From) error {
	h, err := a.provedByPasskey(ctx, ticket, answer, from)
	if err != nil {
		return err
	}
	if h.ID != c.PersonID {
		return refuse(Unproved, "This is somebody else's passkey.")
	}
	return a.Store.ConfirmSession(ctx, c.Session.ID)
}

func (a *Accounts) provedByPasskey(ctx context.Context, ticket string, answer []byte, from From) (h holder, err error) {
	if err := a.allowed(ctx, networkSubject(from.Addr)); err != nil {
		return h, err
	}
	rp, err := a.relying(ctx, from)
	if err != nil {
		return h, err
	}
	t, err := a.Store.TakeTicket(ctx, ticketPasskey, ticket)
	if err != nil {
		return h, gone(err)
	}
	var session webauthn.SessionData
	if err := a.opened(t, &session); err != nil {
		return h, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return h, notPasskey(err)
	}
	used, err := rp.ValidateDiscoverableLogin(func(_, handle []byte) (webauthn.User, error) {
		h, err = a.holderOf(ctx, handle)
		return h, err
	}, session, parsed)
	if err != nil {
		if err := a.count(ctx, networkSubject(from.Addr)); err != nil {
			return h, err
		}
		return h, notPasskey(err)
	}
	if used.Authenticator.CloneWarning {
		return h, refuse(Unproved, "This passkey seems to be a copy of another. Sign in otherwise, and remove it.")
	}
	record, err := json.Marshal(used)
	if err != nil {
		return h, err
	}
	return h, a.Store.UsePasskey(ctx, used.ID, string(record))
}

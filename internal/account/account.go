// Package account is who uses Varnet and what they may do: persons, their ways of signing in,
// sessions and second factors; teams, roles and invitations; keys of programs; the audit trail.
package account

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/event"
	"varnet/internal/letter"
	"varnet/internal/secret"
	"varnet/internal/store"
)

// Accounts lets persons sign up and in, and looks after them and their teams.
type Accounts struct {
	Store   *store.Store
	Secrets *secret.Box
	Office  *letter.Office
	// Post hands a letter in with a transaction: it goes when that is committed. A letter to
	// nobody ("") takes as long and goes nowhere.
	Post func(ctx context.Context, tx pgx.Tx, to string, l letter.Letter) error
	// Happened records an event with a transaction.
	Happened func(ctx context.Context, s *store.Store, tx pgx.Tx, e event.Event) error
	Log      *slog.Logger
	// Demo is the address of the person whom anybody on this machine may sign in as; "": nobody.
	Demo string

	provider providerCache
}

// From is where a request comes from.
type From struct {
	Addr   netip.Addr
	Agent  string // its User-Agent
	Device string // the secret by which the browser is known again; "": not yet
	Origin string // where the browser says it is: https://varnet.fernhollow.example
}

// Refused tells why something is not done, in a sentence for people.
type Refused struct {
	Kind Kind
	Why  string
}

func (r *Refused) Error() string { return r.Why }

// Kind is what sort of refusal one is.
type Kind int

// The kinds: what was sent is not right; who they are is not proved; they may not; it does not
// go with how things are now; it needs a proof of who they are first.
const (
	Invalid Kind = iota
	Unproved
	Forbidden
	Conflict
	Unconfirmed
)

func refuse(k Kind, format string, args ...any) error {
	return &Refused{k, fmt.Sprintf(format, args...)}
}

// Caller is who a request acts for: a person who is signed in, or a program with a key.
type Caller struct {
	WorkspaceID int64 // 0: none
	Workspace   string
	Allowance   bool // one is kept of the workspace
	Scopes      []Scope

	KeyID   int64 // 0: it is a person
	KeyName string
	// Origins are those of the pages that a form's key is for; VisitorDay is how often one of
	// their visitors may ask a day.
	Origins    []string
	VisitorDay int

	PersonID  int64 // 0: it is a program
	Name      string
	Address   string
	Role      Role // "": in no workspace
	Owner     bool // of the installation
	HasFactor bool
	Demanded  bool // the workspace demands a second factor that the person does not have
	Session   store.Session
}

// May reports whether the caller has a scope.
func (c Caller) May(s Scope) bool { return slices.Contains(c.Scopes, s) }

// OfKey returns who calls with a key.
func (a *Accounts) OfKey(ctx context.Context, key string, from netip.Addr) (Caller, error) {
	o, err := a.Store.OpenedBy(ctx, key, from)
	c := Caller{WorkspaceID: o.WorkspaceID, Workspace: o.Workspace, Allowance: o.Allowance, KeyID: o.KeyID, KeyName: o.KeyName, Origins: o.Origins, VisitorDay: o.VisitorDay}
	for _, s := range o.Scopes {
		c.Scopes = append(c.Scopes, Scope(s))
	}
	return c, err
}

// OfSession returns who is signed in with a session's secret.
func (a *Accounts) OfSession(ctx context.Context, session string, from netip.Addr) (Caller, error) {
	in, err := a.Store.SessionOf(ctx, session, from)
	if err != nil {
		return Caller{}, err
	}
	c := Caller{PersonID: in.PersonID, Name: in.Name, Address: in.Address, Owner: in.Owner, HasFactor: in.HasFactor, Session: in.Session}
	if in.Role == nil {
		c.Scopes = c.ScopesIn(false, false)
		return c, nil
	}
	c.WorkspaceID, c.Workspace, c.Allowance, c.Role = *in.WorkspaceID, *in.Workspace, in.Allowance, Role(*in.Role)
	c.Demanded = *in.SecondFactor && !in.HasFactor
	c.Scopes = c.ScopesIn(*in.SecondFactor, *in.ReadersExport)
	return c, nil
}

// ScopesIn returns what a person may do in the workspace they work in.
func (c Caller) ScopesIn(secondFactor, readersExport bool) []Scope {
	out := []Scope{Self}
	if c.Owner {
		out = append(out, Installation)
	}
	if secondFactor && !c.HasFactor {
		return out
	}
	return append(out, c.Role.Scopes(readersExport)...)
}

// confirmedFor is how long after proving who they are a person may change how they sign in.
const confirmedFor = 15 * time.Minute

// Confirmed returns an error unless the person has proved who they are a short while ago.
func (c Caller) Confirmed() error {
	if time.Since(c.Session.ConfirmedAt) > confirmedFor {
		return refuse(Unconfirmed, "Confirm that it is you first: this changes how you sign in, or cannot be undone.")
	}
	return nil
}

// mailbox reads an address.
func mailbox(text string) (address.Address, error) {
	if strings.ContainsAny(text, "\r\n\x00") || len(text) > 320 {
		return address.Address{}, refuse(Invalid, "This is not an address.")
	}
	at, err := address.Parse(text)
	if err != nil {
		return at, refuse(Invalid, "The address cannot be one: %s", err)
	}
	return at, nil
}

// named tidies the name of a person or workspace.
func named(text string) (string, error) {
	text = strings.Join(strings.Fields(strings.ToValidUTF8(text, "")), " ")
	if text == "" || len([]rune(text)) > 100 || strings.ContainsFunc(text, func(r rune) bool {
		return r < ' ' || r == 0x7f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
	}) {
		return "", refuse(Invalid, "A name has 1 to 100 characters on one line.")
	}
	return text, nil
}

// Reseal seals second factors and the secret of the sign-in provider with the present secret,
// and returns how many there are. What passkeys say whose they are is kept as it was made with
// the secret before.
func (a *Accounts) Reseal(ctx context.Context) (int, error) {
	holders, err := a.Store.WithoutHandle(ctx)
	for _, p := range holders {
		if err == nil {
			all := a.handles(p)
			err = a.Store.KeepHandle(ctx, p.ID, all[len(all)-1])
		}
	}
	if err != nil {
		return 0, err
	}
	factors, err := a.Store.Reseal(ctx, store.SecondFactors, func(_ string, sealed []byte) ([]byte, error) { return a.Secrets.Reseal(sealed, totpPurpose) })
	if err != nil {
		return 0, err
	}
	provider, err := a.Store.Reseal(ctx, store.ProviderSecrets, func(_ string, sealed []byte) ([]byte, error) { return a.Secrets.Reseal(sealed, providerPurpose) })
	return factors + provider, err
}

// sealed packs what a ticket holds.
func (a *Accounts) sealed(kind string, v any) []byte {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // types of our own
	}
	return a.Secrets.Seal(string(text), "ticket "+kind)
}

// opened reads what a ticket holds.
func (a *Accounts) opened(t store.Ticket, v any) error {
	text, err := a.Secrets.Open(t.Data, "ticket "+t.Kind)
	if err != nil {
		return err
	}
	return json.Unmarshal([]byte(text), v)
}

// gone says that a ticket is not there any more.
func gone(err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return refuse(Unproved, "This took too long, or was done before. Begin again.")
	}
	return err
}

package account

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/jackc/pgx/v5"
	"golang.org/x/oauth2"
	"golang.org/x/sync/singleflight"

	"varnet/internal/store"
)

// ticketProvider is between going to the sign-in provider and coming back.
const ticketProvider = "provider"

// providerPurpose is what the provider's secret is sealed for.
const providerPurpose = "sign-in provider"

// went is what the ticket of somebody who went to the provider holds.
type went struct{ State, Nonce, Verifier, Issuer, To, Invitation string }

// providerCache keeps what a provider says of itself for a while. Who asks for it meanwhile waits for one answer
// together: of a provider that does not answer, each learns that after one wait.
type providerCache struct {
	asking singleflight.Group
	mu     sync.Mutex
	issuer string
	until  time.Time
	found  *oidc.Provider
}

const (
	providerKept   = time.Hour
	providerWait   = 10 * time.Second
	providerAnswer = 1 << 20 // the most that is read of one answer, in bytes
)

// bounded reads at most so much of an answer.
type bounded struct{ http.RoundTripper }

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		resp.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(resp.Body, providerAnswer), resp.Body}
	}
	return resp, err
}

var providerClient = &http.Client{Timeout: providerWait, Transport: bounded{http.DefaultTransport},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// ProviderURL says what speaks against the URL of a sign-in provider; "" when nothing does.
func ProviderURL(issuer string) string {
	u, err := url.Parse(issuer)
	if err != nil || u.Host == "" || u.RawQuery != "" || u.Fragment != "" || u.User != nil {
		return fmt.Sprintf("%q is not an issuer; write it as https://sign-in.fernhollow.example", issuer)
	}
	ip := net.ParseIP(u.Hostname())
	if u.Scheme != "https" && !(u.Scheme == "http" && (u.Hostname() == "localhost" || ip != nil && ip.IsLoopback())) {
		return "a sign-in provider is reached by https"
	}
	return ""
}

// at returns the provider and how Varnet signs in with it.
func (a *Accounts) at(ctx context.Context) (*oidc.Provider, *oauth2.Config, store.Installation, error) {
	i, err := a.Store.Installation(ctx)
	if err != nil {
		return nil, nil, i, err
	}
	if i.ProviderIssuer == "" {
		return nil, nil, i, refuse(Conflict, "This installation has no sign-in provider.")
	}
	p, err := a.provider.get(i.ProviderIssuer)
	if err != nil {
		a.Log.Warn("the sign-in provider does not answer", "issuer", i.ProviderIssuer, "err", err)
		return nil, nil, i, refuse(Conflict, "The sign-in provider does not answer. Try again in a moment, or sign in otherwise.")
	}
	secret := ""
	if i.ProviderSealed != nil {
		if secret, err = a.Secrets.Open(i.ProviderSealed, providerPurpose); err != nil {
			return nil, nil, i, err
		}
	}
	return p, &oauth2.Config{ClientID: i.ProviderClient, ClientSecret: secret, Endpoint: p.Endpoint(), RedirectURL: a.base(ctx) + "/api/v1/sign-in/provider/back", Scopes: []string{oidc.ScopeOpenID, "email", "profile"}}, i, nil
}

func (c *providerCache) get(issuer string) (*oidc.Provider, error) {
	if p := c.kept(issuer); p != nil {
		return p, nil
	}
	p, err, _ := c.asking.Do(issuer, func() (any, error) {
		// The provider's keys are fetched again with this context, long after the request.
		p, err := oidc.NewProvider(oidc.ClientContext(context.Background(), providerClient), issuer)
		if err == nil {
			c.keep(issuer, p)
		}
		return p, err
	})
	return p.(*oidc.Provider), err
}

func (c *providerCache) kept(issuer string) *oidc.Provider {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.issuer != issuer || time.Now().After(c.until) {
		return nil
	}
	return c.found
}

func (c *providerCache) keep(issuer string, p *oidc.Provider) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.issuer, c.found, c.until = issuer, p, time.Now().Add(providerKept)
}

// ToProvider sends a browser to the sign-in provider: the URL it goes to, and the ticket that
// it keeps until it comes back. To is the page of the console that it goes on to.
func (a *Accounts) ToProvider(ctx context.Context, to, invitation string) (goTo, ticket string, err error) {
	_, config, i, err := a.at(ctx)
	if err != nil {
		return "", "", err
	}
	w := went{State: newSecret(), Nonce: newSecret(), Verifier: oauth2.GenerateVerifier(), Issuer: i.ProviderIssuer, To: to, Invitation: invitation}
	ticket, err = a.Store.NewTicket(ctx, store.Ticket{Kind: ticketProvider, Data: a.sealed(ticketProvider, w), ExpiresAt: time.Now().Add(codeLife)})
	return config.AuthCodeURL(w.State, oidc.Nonce(w.Nonce), oauth2.S256ChallengeOption(w.Verifier)), ticket, err
}

// Back is what a browser comes back from the provider with.
type Back struct{ State, Code, Issuer, Trouble string }

// FromProvider signs in whoever the provider says has come back, and returns where they go on.
func (a *Accounts) FromProvider(ctx context.Context, ticket string, b Back, from From) (step Step, to string, err error) {
	t, err := a.Store.TakeTicket(ctx, ticketProvider, ticket)
	if err != nil {
		return step, "", gone(err)
	}
	var w went
	if err := a.opened(t, &w); err != nil {
		return step, "", err
	}
	p, config, i, err := a.at(ctx)
	if err != nil {
		return step, "", err
	}
	switch {
	case b.State != w.State:
		return step, "", refuse(Unproved, "This answer of the sign-in provider is not for you. Begin again.")
	case w.Issuer != i.ProviderIssuer || b.Issuer != "" && b.Issuer != w.Issuer: // RFC 9207
		return step, "", refuse(Unproved, "The answer is of another sign-in provider than was asked. Begin again.")
	case b.Trouble != "" || b.Code == "":
		return step, "", refuse(Unproved, "The sign-in provider did not let you through.")
	}
	who, err := a.claims(ctx, p, config, w, b.Code)
	if err != nil {
		return step, "", err
	}
	person, err := a.personOf(ctx, w, who)
	if err != nil {
		return step, "", err
	}
	step, err = a.finish(ctx, person, from, false)
	return step, w.To, err
}

// claim is who somebody is, as the provider says.
type claim struct {
	Subject  string `json:"sub"`
	Address  string `json:"email"`
	Verified bool   `json:"email_verified"`
	Name     string `json:"name"`
}

// claims exchanges the code for what the provider says, signed (OpenID Connect Core, 3.1.3).
func (a *Accounts) claims(ctx context.Context, p *oidc.Provider, config *oauth2.Config, w went, code string) (c claim, err error) {
	ctx, cancel := context.WithTimeout(oidc.ClientContext(ctx, providerClient), providerWait)
	defer cancel()
	no := func(err error) error {
		a.Log.Warn("an answer of the sign-in provider was not accepted", "err", err)
		return refuse(Unproved, "What the sign-in provider says of you could not be verified. Begin again.")
	}
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(w.Verifier))
	if err != nil {
		return c, no(err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := p.Verifier(&oidc.Config{ClientID: config.ClientID}).Verify(ctx, raw)
	if err != nil {
		return c, no(err)
	}
	if id.Nonce != w.Nonce {
		return c, no(errors.New("the nonce is another"))
	}
	if err := id.Claims(&c); err != nil {
		return c, no(err)
	}
	return c, nil
}

// personOf returns who somebody at the provider is here: who they were before, who has their
// address, or a newcomer where one may sign up.
func (a *Accounts) personOf(ctx context.Context, w went, c claim) (store.Person, error) {
	p, err := a.Store.PersonOfProvider(ctx, w.Issuer, c.Subject)
	if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	at, err := mailbox(c.Address)
	if err != nil || !c.Verified {
		return p, refuse(Forbidden, "The sign-in provider does not vouch for your address, so no account can be found or made by it.")
	}
	p, err = a.Store.PersonAt(ctx, at.Canonical())
	if errors.Is(err, store.ErrNotFound) {
		return a.newOfProvider(ctx, w, c, store.Person{Address: at.Mailbox(), Canonical: at.Canonical()})
	}
	if err != nil {
		return p, err
	}
	return p, a.Store.LinkProvider(ctx, w.Issuer, c.Subject, p.ID)
}

func (a *Accounts) newOfProvider(ctx context.Context, w went, c claim, p store.Person) (store.Person, error) {
	i, err := a.Store.Installation(ctx)
	if err != nil {
		return p, err
	}
	if p.Name, err = named(c.Name); err != nil {
		p.Name = p.Address
	}
	invited, err := a.Store.Invitation(ctx, w.Invitation)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	if invited.Canonical != p.Canonical && SignUpMode(i.SignUp) != Open {
		return p, refuse(Forbidden, "You have no account here, and signing up takes an invitation.")
	}
	err = a.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) (err error) {
		if p, err = s.NewPerson(ctx, p); err != nil {
			return err
		}
		if err := s.LinkProvider(ctx, w.Issuer, c.Subject, p.ID); err != nil {
			return err
		}
		if invited.Canonical != p.Canonical {
			return ownWorkspace(ctx, s, p)
		}
		if err := s.TakeInvitation(ctx, w.Invitation); err != nil {
			return noInvitation(err)
		}
		return a.join(ctx, s, tx, invited, p.ID, p.Name)
	})
	return p, err
}

// SetProvider changes the sign-in provider; a nil secret leaves the one that is there, which no other provider gets.
func (a *Accounts) SetProvider(i *store.Installation, name, issuer, client string, secret *string) error {
	if issuer != "" {
		if why := ProviderURL(issuer); why != "" {
			return refuse(Invalid, "%s", why)
		}
	}
	if secret == nil && i.ProviderSealed != nil && issuer != "" && issuer != i.ProviderIssuer {
		return refuse(Invalid, "The client secret that is kept was entered for %s; enter it again for another provider.", i.ProviderIssuer)
	}
	i.ProviderName, i.ProviderIssuer, i.ProviderClient = name, issuer, client
	switch {
	case issuer == "":
		i.ProviderName, i.ProviderClient, i.ProviderSealed = "", "", nil
	case secret != nil && *secret == "":
		i.ProviderSealed = nil
	case secret != nil:
		i.ProviderSealed = a.Secrets.Seal(*secret, providerPurpose)
	}
	return nil
}

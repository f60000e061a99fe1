package recipe

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"golang.org/x/oauth2"

	"varnet/internal/connect"
)

// auth is a sign-in by OAuth 2.0.
type auth struct {
	host   string // of the platform, for people
	config oauth2.Config
	http   *http.Client
	renew  func(ctx context.Context, field, had string, renew func(string) (string, error)) (string, error)
	token  string // as it is kept
}

// early is how long before its end a token is refreshed.
const early = 30 * time.Second

func (p *Place) signInBy(env connect.Env, s connect.Settings) {
	how := p.recipe.SignIn
	if how.OAuth == nil {
		p.web.SignIn = func(_ context.Context, r *http.Request) error {
			if s["key"] == "" {
				return connect.Broken("There is no key for %s; enter the one that it gave you.", p.recipe.Name)
			}
			r.Header.Set(how.Header, how.Prefix+s["key"])
			return nil
		}
		return
	}
	p.auth = &auth{host: p.base.Host, config: p.oauth(s), http: p.web.HTTP, renew: env.Renew, token: s["token"]}
	p.web.SignIn = p.auth.sign
	p.web.Renew = func(ctx context.Context) (bool, error) { return true, p.auth.refresh(ctx) }
}

// oauth is what the platform and Varnet agreed on.
func (p *Place) oauth(s connect.Settings) oauth2.Config {
	o := p.recipe.SignIn.OAuth
	return oauth2.Config{ClientID: s["clientId"], ClientSecret: s["clientSecret"], Scopes: o.Scopes,
		Endpoint: oauth2.Endpoint{AuthURL: p.absolute(o.Authorize), TokenURL: p.absolute(o.Token)}}
}

func (p *Place) absolute(address string) string {
	if strings.Contains(address, "://") {
		return address
	}
	return strings.TrimSuffix(p.base.String(), "/") + "/" + strings.TrimPrefix(address, "/")
}

// Authorize returns where somebody signs in at the platform, and is sent back to redirect with a
// code; "" where nobody has to. verifier is the secret of PKCE (RFC 7636, 4.1).
func (p *Place) Authorize(redirect, state, verifier string) string {
	if p.auth == nil {
		return ""
	}
	c := p.auth.config
	c.RedirectURL = redirect
	return c.AuthCodeURL(state, oauth2.S256ChallengeOption(verifier))
}

// Exchange returns the sign-in that a code stands for, to be kept as the setting token.
func (p *Place) Exchange(ctx context.Context, redirect, code, verifier string) (string, error) {
	c := p.auth.config
	c.RedirectURL = redirect
	t, err := c.Exchange(context.WithValue(ctx, oauth2.HTTPClient, p.auth.http), code, oauth2.VerifierOption(verifier))
	if err != nil {
		return "", refusedBy(p.base.Host, err)
	}
	return kept(t), nil
}

func kept(t *oauth2.Token) string {
	text, _ := json.Marshal(t)
	return string(text)
}

// refusedBy is why no token was given. One that the platform refuses is refused again (RFC 6749, 5.2); a platform
// that is out of order for a moment gives one later.
func refusedBy(host string, err error) error {
	var said *oauth2.RetrieveError
	if !errors.As(err, &said) {
		return connect.Unreachable(host, err)
	}
	status := 0
	if said.Response != nil {
		status = said.Response.StatusCode
	}
	words := connect.Plain(strings.TrimSpace(said.ErrorCode + " " + said.ErrorDescription))
	words = cmp.Or(words, strings.TrimSpace(fmt.Sprintf("%d %s", status, http.StatusText(status))))
	if connect.MayPass(status) {
		return connect.Later("%s gives no token just now: %s.", host, words)
	}
	return connect.Broken("%s did not give a token: %s. Sign in there again.", host, words)
}

// sign puts the token into a request; one that is about to end is refreshed.
func (a *auth) sign(ctx context.Context, r *http.Request) error {
	t, err := a.present()
	if err != nil {
		return err
	}
	if !t.Expiry.IsZero() && time.Until(t.Expiry) < early {
		if err := a.refresh(ctx); err != nil {
			return err
		}
		if t, err = a.present(); err != nil {
			return err
		}
	}
	t.SetAuthHeader(r)
	return nil
}

func (a *auth) present() (*oauth2.Token, error) {
	t := &oauth2.Token{}
	if a.token == "" || json.Unmarshal([]byte(a.token), t) != nil {
		return nil, connect.Broken("Nobody has signed in at the platform yet; sign in there.")
	}
	return t, nil
}

// refresh refreshes the token, unless somebody else did meanwhile (RFC 6749, 6).
func (a *auth) refresh(ctx context.Context) (err error) {
	a.token, err = a.renew(ctx, "token", a.token, func(had string) (string, error) {
		old := &oauth2.Token{}
		if err := json.Unmarshal([]byte(had), old); err != nil || old.RefreshToken == "" {
			return "", connect.Broken("The sign-in has ended; sign in there again.")
		}
		old.AccessToken, old.Expiry = "", time.Now().Add(-time.Hour)
		t, err := a.config.TokenSource(context.WithValue(ctx, oauth2.HTTPClient, a.http), old).Token()
		if err != nil {
			return "", refusedBy(a.host, err)
		}
		return kept(t), nil
	})
	return err
}

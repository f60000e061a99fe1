package practice

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"net"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Identified is somebody whom the sign-in provider knows.
type Identified struct {
	Subject, Name, Address string
	Verified               bool // whether the provider vouches for the address
}

// Lie is how a sign-in provider deceives; the zero value is none.
type Lie struct {
	State    string // what it sends back in the place of the state
	Issuer   string // the iss that it sends back (RFC 9207)
	Nonce    string // the nonce in its token
	Audience string // whom its token is for
	Forged   bool   // the token is signed by a key that is not the provider's
}

// Provider is a sign-in provider (OpenID Connect: the code flow with PKCE), whose people sign in
// with a click.
type Provider struct {
	Issuer, Client, Secret string
	People                 []Identified

	mu    sync.Mutex
	lie   Lie
	key   *ecdsa.PrivateKey
	codes map[string]granted
}

// granted is what a code stands for, once.
type granted struct {
	who                        Identified
	redirect, nonce, challenge string
	until                      time.Time
}

// StartProvider starts a sign-in provider of the practice internet.
func (i *Internet) StartProvider(listen, client, secret string) (*Provider, error) {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return nil, fmt.Errorf("practice sign-in provider: %w", err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	p := &Provider{Issuer: "http://" + l.Addr().String(), Client: client, Secret: secret, key: key, codes: map[string]granted{}, People: []Identified{
		{"1", "Ada Moss", "ada.moss@fernhollow.example", true},
		{"2", "Dora Vetch", "dora.vetch@fernhollow.example", true},
		{"3", "Elin Sedge", "elin.sedge@fernhollow.example", false},
	}}
	server := &http.Server{Handler: p, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(l) }()
	i.closers = append(i.closers, func() { _ = server.Close() })
	return p, nil
}

// Deceive has the provider lie from now on.
func (p *Provider) Deceive(l Lie) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.lie = l
}

// ServeHTTP is the provider: what it says of itself, its keys, its page, its codes and tokens.
func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		told(w, map[string]any{"issuer": p.Issuer, "authorization_endpoint": p.Issuer + "/authorize", "token_endpoint": p.Issuer + "/token", "jwks_uri": p.Issuer + "/keys",
			"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"ES256"},
			"code_challenge_methods_supported": []string{"S256"}, "authorization_response_iss_parameter_supported": true})
	case "/keys":
		told(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.key.Public(), KeyID: "1", Algorithm: "ES256", Use: "sig"}}})
	case "/authorize":
		p.authorize(w, r)
	case "/token":
		p.token(w, r)
	default:
		http.NotFound(w, r)
	}
}

func told(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

// authorize shows who may sign in, and sends them back with a code once one is chosen.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if q.Get("client_id") != p.Client || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" || q.Get("code_challenge") == "" || q.Get("nonce") == "" {
		http.Error(w, "this is not how the practice provider is asked", http.StatusBadRequest)
		return
	}
	if q.Get("as") == "" {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = providerPage.Execute(w, map[string]any{"People": p.People, "Query": template.URL(r.URL.RawQuery)})
		return
	}
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil {
		http.Error(w, "the redirect_uri is none", http.StatusBadRequest)
		return
	}
	answer := url.Values{"state": {or(p.lie.State, q.Get("state"))}, "iss": {or(p.lie.Issuer, p.Issuer)}}
	if at := slices.IndexFunc(p.People, func(i Identified) bool { return i.Subject == q.Get("as") }); at < 0 {
		answer.Set("error", "access_denied")
	} else {
		code := rand.Text()
		p.codes[code] = granted{p.People[at], q.Get("redirect_uri"), q.Get("nonce"), q.Get("code_challenge"), time.Now().Add(time.Minute)}
		answer.Set("code", code)
	}
	back.RawQuery = answer.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

func or(lie, truth string) string {
	if lie != "" {
		return lie
	}
	return truth
}

// token takes a code, once, with the verifier that fits its challenge (RFC 7636).
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	id, secret, ok := r.BasicAuth()
	if !ok {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	g, known := p.codes[r.FormValue("code")]
	delete(p.codes, r.FormValue("code"))
	sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
	fits := base64.RawURLEncoding.EncodeToString(sum[:]) == g.challenge
	if id != p.Client || subtle.ConstantTimeCompare([]byte(secret), []byte(p.Secret)) != 1 || !known || time.Now().After(g.until) || r.FormValue("redirect_uri") != g.redirect || !fits {
		w.WriteHeader(http.StatusBadRequest)
		told(w, map[string]string{"error": "invalid_grant"})
		return
	}
	token, err := p.signed(g)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	told(w, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 60, "id_token": token})
}

// signed is the token that says who somebody is.
func (p *Provider) signed(g granted) (string, error) {
	key := p.key
	if p.lie.Forged {
		var err error
		if key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
			return "", err
		}
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key, KeyID: "1"}}, nil)
	if err != nil {
		return "", err
	}
	now := time.Now()
	return jwt.Signed(signer).Claims(jwt.Claims{Issuer: p.Issuer, Subject: g.who.Subject, Audience: jwt.Audience{or(p.lie.Audience, p.Client)}, IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(time.Minute))}).
		Claims(map[string]any{"nonce": or(p.lie.Nonce, g.nonce), "name": g.who.Name, "email": g.who.Address, "email_verified": g.who.Verified}).Serialize()
}

var providerPage = template.Must(template.New("provider").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>Practice sign-in</title>
<style>body{margin:0 auto;max-width:480px;padding:64px 24px;font:16px/24px sans-serif;background:#faf7f1;color:#1d2b3a}
h1{font-size:28px;line-height:40px}a{display:block;padding:8px 0;color:#0f5c5e}</style></head><body>
<h1>Sign-in of the practice internet</h1><p>Who are you?</p>
{{range .People}}<a href="?{{$.Query}}&amp;as={{.Subject}}">{{.Name}}, {{.Address}}{{if not .Verified}} (not verified){{end}}</a>
{{end}}<a href="?{{.Query}}&amp;as=nobody">Nobody of these</a></body></html>`))

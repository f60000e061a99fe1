package shed

import (
	"crypto/sha256"
	"encoding/base64"
	"html/template"
	"net/http"
	"net/url"
	"time"
)

// Client is Varnet as the platform knows it.
const Client = "varnet"

// code is what a code stands for, once.
type code struct {
	redirect, challenge string
	until               time.Time
}

// authorize shows the sign-in page, and sends back with a code (RFC 6749, 4.1; RFC 7636).
func (s *Shed) authorize(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	q := r.URL.Query()
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || q.Get("client_id") != Client || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" || q.Get("code_challenge") == "" {
		http.Error(w, "this is not how the Potting Shed is asked", http.StatusBadRequest)
		return
	}
	answer := url.Values{"state": {q.Get("state")}}
	switch q.Get("allow") {
	case "":
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = page.Execute(w, template.URL(r.URL.RawQuery))
		return
	case "yes":
		c := random()
		s.codes[c] = code{q.Get("redirect_uri"), q.Get("code_challenge"), time.Now().Add(time.Minute)}
		answer.Set("code", c)
	default:
		answer.Set("error", "access_denied")
	}
	back.RawQuery = answer.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

// token takes a code, or a refresh token, each once.
func (s *Shed) token(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	good := false
	switch r.FormValue("grant_type") {
	case "authorization_code":
		c, known := s.codes[r.FormValue("code")]
		delete(s.codes, r.FormValue("code"))
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		good = known && time.Now().Before(c.until) && r.FormValue("redirect_uri") == c.redirect && base64.RawURLEncoding.EncodeToString(sum[:]) == c.challenge
	case "refresh_token":
		good = s.refreshes[r.FormValue("refresh_token")]
		delete(s.refreshes, r.FormValue("refresh_token"))
	}
	if !good {
		answer(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant"})
		return
	}
	token, refresh := random(), random()
	s.tokens[token], s.refreshes[refresh] = time.Now().Add(s.TokenLife), true
	answer(w, http.StatusOK, map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": int(s.TokenLife.Seconds()), "refresh_token": refresh})
}

// Forget has it know no token and no sign-in any more.
func (s *Shed) Forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.tokens)
	clear(s.refreshes)
}

// Expire has all tokens end now; what refreshes them stays good.
func (s *Shed) Expire() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.tokens)
}

var page = template.Must(template.New("shed").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>The Potting Shed</title>
<style>body{margin:0 auto;max-width:480px;padding:64px 24px;font:16px/24px sans-serif;background:#f4f1e8;color:#2b2418}
h1{font-size:28px;line-height:40px}a{display:block;padding:8px 0;color:#5b3a1c}</style></head><body>
<h1>The Potting Shed</h1><p>Varnet wants to read your contacts, and to change their fields, tags and groups.</p>
<a href="?{{.}}&amp;allow=yes">Allow</a><a href="?{{.}}&amp;allow=no">Do not allow</a></body></html>`))

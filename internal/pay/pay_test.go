package pay_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"varnet/core/ledger"
	"varnet/internal/pay"
	"varnet/internal/webhook"
)

func TestAddresses(t *testing.T) {
	for address, want := range map[string]bool{"https://pay.example": true, "https://pay.example/v1": true, "http://127.0.0.1:2592": true, "http://localhost:1": true,
		"http://pay.example": false, "ftp://pay.example": false, "https://": false, "pay.example": false, "https://ada@pay.example": false, "https://pay.example?x=1": false,
		"https://pay.example/" + strings.Repeat("x", 300): false} {
		if err := pay.CheckAddress(address); (err == nil) != want {
			t.Errorf("%q: %v", address, err)
		}
	}
}

// provider answers as a provider would, and as one would not.
func provider(t *testing.T, secret string, answer func(w http.ResponseWriter, path string)) pay.Provider {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if _, err := webhook.Verify(secret, r.Header, body, time.Now()); err != nil {
			t.Errorf("%s is not signed: %v", r.URL.Path, err)
		}
		answer(w, r.URL.Path)
	}))
	t.Cleanup(s.Close)
	return pay.Provider{Address: s.URL, Secret: secret}
}

// TestStart: people are sent to the provider's own page alone, and what the provider refuses, breaks or
// sends elsewhere is an error.
func TestStart(t *testing.T) {
	secret, page := webhook.NewSecret(), ""
	status := http.StatusOK
	p := provider(t, secret, func(w http.ResponseWriter, path string) {
		if path == "/elsewhere" {
			t.Error("a redirect is followed")
		}
		w.Header().Set("Location", "/elsewhere")
		w.WriteHeader(status)
		fmt.Fprintf(w, `{"page": %q}`, page)
	})
	for _, c := range []struct {
		page   string
		status int
		method string
		ok     bool
	}{{p.Address + "/pay/1", 200, "", true}, {"https://elsewhere.example/pay", 200, "", false}, {"javascript:alert(1)", 200, "", false}, {"", 200, "", false}, {"", 202, "a token", true},
		{p.Address + "/pay/1", 302, "", false}, {p.Address + "/pay/1", 500, "", false}} {
		page, status = c.page, c.status
		got, err := p.Start(t.Context(), pay.Order{Reference: "r", Amount: 1, Currency: "EUR", Method: c.method})
		if (err == nil) != c.ok || c.ok && got != c.page {
			t.Errorf("%+v: %q, %v", c, got, err)
		}
	}
	var asked string
	back := provider(t, secret, func(w http.ResponseWriter, path string) { asked = path; _, _ = io.WriteString(w, "{}") })
	if err := back.Return(t.Context(), "p/1"); err != nil || asked != "/payments/p/1/return" {
		t.Errorf("paid back at %q: %v", asked, err)
	}
}

// TestRead: a call is taken that is signed and whole; an unknown name in it, or one too long, is an error.
func TestRead(t *testing.T) {
	p := pay.Provider{Address: "https://pay.example", Secret: webhook.NewSecret()}
	whole := pay.Call{Reference: "r", Payment: "p", Kind: ledger.CallPaid, Amount: 100, Currency: "EUR", Method: &pay.Method{Token: "t", Name: "account"}}
	text, _ := json.Marshal(whole)
	for body, ok := range map[string]bool{string(text): true, `{"reference":"r","payment":"p","kind":"paid"}`: true, `{"reference":"r","payment":"p","kind":"paid","card":"4"}`: false, `{"reference":"","payment":"p"}`: false,
		`{"reference":"r","payment":""}`: false, `{"reference":"r","payment":"` + strings.Repeat("p", 201) + `"}`: false, `{"reference":"r","payment":"p","method":{"token":"","name":"x"}}`: false, `{"amount":1e99}`: false, ``: false} {
		h := http.Header{}
		if err := webhook.Sign(h, "c1", time.Now(), []byte(body), p.Secret); err != nil {
			t.Fatal(err)
		}
		id, c, err := p.Read(h, []byte(body), time.Now())
		if (err == nil) != ok || ok && (id != "c1" || c.Reference != "r") {
			t.Errorf("%s: %q, %+v, %v", body, id, c, err)
		}
	}
	if _, _, err := p.Read(http.Header{}, text, time.Now()); err == nil {
		t.Error("an unsigned call is taken")
	}
}

package e2e

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"varnet/internal/testkit"
)

// TestSecretsGoNowhereElse: a password that is kept is used at the server that it was entered for. Who has another server
// asked enters it again, for they need not be who knows it.
func TestSecretsGoNowhereElse(t *testing.T) {
	t.Parallel()
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), testkit.World(t, "fernhollow")))
	v, signedIn := visit(t, s), http.Header{"Authorization": {"Bearer " + s.SignIn(t)}}
	put := func(method, path string, body any) (int, string) {
		code, _, text := v.send(method, path, body, signedIn)
		return code, text
	}
	type settings = map[string]any
	with := func(of settings, more settings) settings {
		out := settings{}
		for k, x := range of {
			out[k] = x
		}
		for k, x := range more {
			out[k] = x
		}
		return out
	}
	mailbox := settings{"host": "imap.fernhollow.example", "port": 993, "security": "tls", "username": "returns"}
	source := func(m settings) settings { return settings{"name": "Returns", "mailbox": m} }
	if code, text := put("POST", "/bounce-sources", source(with(mailbox, settings{"password": "quince"}))); code != http.StatusCreated {
		t.Fatalf("%d %s", code, text)
	}
	place := settings{"address": "http://127.0.0.1:1/3.1", "user": "restadmin"}
	if code, text := put("POST", "/connections", settings{"name": "lists", "kind": "mailing-lists", "settings": with(place, settings{"password": "quince"})}); code != http.StatusCreated {
		t.Fatalf("%d %s", code, text)
	}
	for _, c := range []struct {
		kind  string
		other settings
		want  int
	}{{"mailing-lists", settings{"user": "ada"}, http.StatusOK}, {"mailing-lists", settings{"address": "http://127.0.0.1:2/3.1"}, http.StatusUnprocessableEntity}, {"address-book", settings{}, http.StatusUnprocessableEntity}} {
		code, text := put("POST", "/connections/test", settings{"connectionId": 1, "kind": c.kind, "settings": with(place, c.other)})
		if code != c.want {
			t.Errorf("a try as %s with %v: %d %s", c.kind, c.other, code, text)
		}
	}
	var before struct{ Limits settings }
	_, _, text := v.send("GET", "/installation", nil, signedIn)
	if err := json.Unmarshal([]byte(text), &before); err != nil {
		t.Fatal(err)
	}
	provider := settings{"name": "The library's", "issuer": "https://id.fernhollow.example", "client": "varnet"}
	installation := func(p settings) settings {
		return settings{"signUp": "invitation", "auditDays": 400, "maxKeepDays": 0, "limits": before.Limits, "provider": p}
	}
	sender := settings{"host": "smtp.fernhollow.example", "port": 587, "security": "starttls", "username": "letters", "sender": "Fernhollow Seed Library <letters@fernhollow.example>", "servers": []string{"192.88.99.7"}, "returns": "returns@fernhollow.example"}
	server := settings{"host": "smtp.fernhollow.example", "port": 587, "security": "starttls", "username": "varnet", "sender": "Varnet <varnet@fernhollow.example>", "baseUrl": s.URL}
	for _, c := range []struct {
		path        string
		body        func(settings) settings
		of          settings
		secret      string
		same, other settings
	}{
		{"/bounce-sources/1", source, mailbox, "password", settings{"folder": "Returned"}, settings{"host": "imap.elsewhere.example"}},
		{"/letters/server", func(s settings) settings { return s }, server, "password", settings{"username": "letters"}, settings{"host": "smtp.elsewhere.example"}},
		{"/letters/server", func(s settings) settings { return s }, server, "password", settings{"host": "SMTP.fernhollow.example"}, settings{"port": 2587}},
		{"/trial-letters/sender", func(s settings) settings { return s }, sender, "password", settings{"username": "ada"}, settings{"host": "smtp.elsewhere.example"}},
		{"/installation", installation, provider, "secret", settings{"name": "Fernhollow"}, settings{"issuer": "https://id.elsewhere.example"}},
	} {
		for _, step := range []struct {
			body settings
			want int
		}{
			{with(c.of, settings{c.secret: "quince"}), http.StatusOK},
			{with(c.of, c.same), http.StatusOK},
			{with(c.of, c.other), http.StatusUnprocessableEntity},
			{with(with(c.of, c.other), settings{c.secret: "medlar"}), http.StatusOK},
		} {
			code, text := put("PUT", c.path, c.body(step.body))
			if code != step.want || step.want >= 400 && !strings.Contains(text, "enter it again") {
				t.Errorf("%s with %v: %d %s", c.path, step.body, code, text)
			}
		}
	}
}

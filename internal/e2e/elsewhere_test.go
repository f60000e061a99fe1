package e2e

import (
	"encoding/json"
	"maps"
	"net/http"
	"strings"
	"testing"

	"varnet/internal/testkit"
)

// settings is a body of a request, or a part of one.
type settings = map[string]any

// with returns settings with some others over them.
func with(of, other settings) settings {
	out := maps.Clone(of)
	maps.Copy(out, other)
	return out
}

// itself is a body that is settings alone.
func itself(of settings) settings { return of }

// keeper is somebody who may change all settings, and knows no password.
type keeper struct {
	*visitor
	signedIn http.Header
}

func keeperOf(t *testing.T) keeper {
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), testkit.World(t, "fernhollow")))
	return keeper{visit(t, s), http.Header{"Authorization": {"Bearer " + s.SignIn(t)}}}
}

// holds sends a request, and holds that it is answered so; what is refused is asked for again.
func (k keeper) holds(method, path string, body settings, want int) {
	k.t.Helper()
	code, _, text := k.send(method, path, body, k.signedIn)
	if code != want || want >= 400 && !strings.Contains(text, "enter it again") {
		k.t.Errorf("%s %s with %v: %d %s", method, path, body, code, text)
	}
}

// TestSecretsGoNowhereElse: a password that is kept is used at the server that it was entered for. Who has another server
// asked enters it again, for they need not be who knows it.
func TestSecretsGoNowhereElse(t *testing.T) {
	t.Parallel()
	k := keeperOf(t)
	var before struct{ Limits settings }
	_, _, text := k.send("GET", "/installation", nil, k.signedIn)
	if err := json.Unmarshal([]byte(text), &before); err != nil {
		t.Fatal(err)
	}
	installation := func(provider settings) settings {
		return settings{"signUp": "invitation", "auditDays": 400, "maxKeepDays": 0, "limits": before.Limits, "provider": provider}
	}
	source := func(mailbox settings) settings { return settings{"name": "Returns", "mailbox": mailbox} }
	mailbox := settings{"host": "imap.fernhollow.example", "port": 993, "security": "tls", "username": "returns"}
	k.holds("POST", "/bounce-sources", source(with(mailbox, settings{"password": "quince"})), http.StatusCreated)
	sender := settings{"host": "smtp.fernhollow.example", "port": 587, "security": "starttls", "username": "letters", "sender": "Fernhollow Seed Library <letters@fernhollow.example>", "servers": []string{"192.88.99.7"}, "returns": "returns@fernhollow.example"}
	server := settings{"host": "smtp.fernhollow.example", "port": 587, "security": "starttls", "username": "varnet", "sender": "Varnet <varnet@fernhollow.example>", "baseUrl": k.url}
	provider := settings{"name": "The library's", "issuer": "https://id.fernhollow.example", "client": "varnet"}
	for _, c := range []struct {
		path        string
		body        func(settings) settings
		of          settings
		secret      string
		same, other settings
	}{
		{"/bounce-sources/1", source, mailbox, "password", settings{"folder": "Returned"}, settings{"host": "imap.elsewhere.example"}},
		{"/letters/server", itself, server, "password", settings{"username": "letters"}, settings{"host": "smtp.elsewhere.example"}},
		{"/letters/server", itself, server, "password", settings{"host": "SMTP.fernhollow.example"}, settings{"port": 2587}},
		{"/trial-letters/sender", itself, sender, "password", settings{"username": "ada"}, settings{"host": "smtp.elsewhere.example"}},
		{"/installation", installation, provider, "secret", settings{"name": "Fernhollow"}, settings{"issuer": "https://id.elsewhere.example"}},
	} {
		k.holds("PUT", c.path, c.body(with(c.of, settings{c.secret: "quince"})), http.StatusOK)
		k.holds("PUT", c.path, c.body(with(c.of, c.same)), http.StatusOK)
		k.holds("PUT", c.path, c.body(with(c.of, c.other)), http.StatusUnprocessableEntity)
		k.holds("PUT", c.path, c.body(with(with(c.of, c.other), settings{c.secret: "medlar"})), http.StatusOK)
	}
}

// TestTriesGoNowhereElse: settings that are tried out take the secrets of a connection of the same kind, for its own address.
func TestTriesGoNowhereElse(t *testing.T) {
	t.Parallel()
	k := keeperOf(t)
	place := settings{"address": "http://127.0.0.1:1/3.1", "user": "restadmin"}
	k.holds("POST", "/connections", settings{"name": "lists", "kind": "mailing-lists", "settings": with(place, settings{"password": "quince"})}, http.StatusCreated)
	for _, c := range []struct {
		kind  string
		other settings
		want  int
	}{
		{"mailing-lists", settings{"user": "ada"}, http.StatusOK},
		{"mailing-lists", settings{"address": "http://127.0.0.1:2/3.1"}, http.StatusUnprocessableEntity},
	} {
		k.holds("POST", "/connections/test", settings{"connectionId": 1, "kind": c.kind, "settings": with(place, c.other)}, c.want)
	}
	code, _, text := k.send("POST", "/connections/test", settings{"connectionId": 1, "kind": "address-book", "settings": place}, k.signedIn)
	if code != http.StatusUnprocessableEntity || !strings.Contains(text, "Password is missing") {
		t.Errorf("as another kind: %d %s", code, text)
	}
}

package connection_test

import (
	"errors"
	"maps"
	"slices"
	"strings"
	"testing"

	"varnet/core/problem"
	"varnet/internal/connect/kinds"
	"varnet/internal/connection"
	"varnet/internal/practice/shed"
	"varnet/internal/store"
	"varnet/internal/testkit"
)

func newConnections(t *testing.T) *connection.Connections {
	t.Helper()
	return &connection.Connections{Secrets: testkit.Secrets(t)}
}

// good are settings of each kind, secrets among them.
func good() map[string]map[string]string {
	return map[string]map[string]string{
		"platform":      {"recipe": shed.Recipe, "key": "quince"},
		"directory":     {"address": "ldaps://directory.fernhollow.example", "user": "cn=varnet,dc=fernhollow,dc=example", "password": "quince", "base": "dc=fernhollow,dc=example"},
		"address-book":  {"address": "https://books.fernhollow.example/", "user": "ada", "password": "quince"},
		"mailing-lists": {"address": "https://lists.fernhollow.example/3.1", "user": "restadmin", "password": "quince"},
		"database":      {"engine": "PostgreSQL", "host": "db.fernhollow.example", "database": "members", "user": "varnet", "password": "quince", "queries": "-- Members\nSELECT id, email FROM members"},
		"files":         {"where": "WebDAV", "address": "https://files.fernhollow.example/seeds/", "pattern": "*.csv", "user": "ada", "password": "quince"},
	}
}

// changed are settings with some others, secrets left out.
func changed(s map[string]string, secrets []string, other map[string]string) map[string]string {
	out := maps.Clone(s)
	for _, name := range secrets {
		delete(out, name)
	}
	maps.Copy(out, other)
	return out
}

// TestSecretsStay: a secret that is left out stays while the connection leads where it led, and has to be entered again
// where it would be sent elsewhere, or in the clear.
func TestSecretsStay(t *testing.T) {
	c := newConnections(t)
	same := map[string]map[string]string{
		"platform":  {"recipe": strings.Replace(shed.Recipe, `"perSecond": 10`, `"perSecond": 3`, 1)},
		"directory": {"filter": "(objectClass=person)"}, "address-book": {"user": "ben"}, "mailing-lists": {"user": "ada"}, "database": {"key": "number"}, "files": {"pattern": "members*.csv"},
	}
	elsewhere := map[string][]map[string]string{
		"platform":      {{"address": "https://api.elsewhere.example/v1"}, {"recipe": strings.Replace(shed.Recipe, "api.pottingshed.example", "api.elsewhere.example", 1)}},
		"directory":     {{"address": "ldaps://directory.elsewhere.example"}, {"address": "ldap://directory.fernhollow.example", "tls": "no"}},
		"address-book":  {{"address": "https://books.elsewhere.example/"}, {"address": "http://books.fernhollow.example/"}},
		"mailing-lists": {{"address": "https://lists.elsewhere.example/3.1"}},
		"database":      {{"host": "db.elsewhere.example"}, {"tls": "no"}},
		"files":         {{"address": "https://files.elsewhere.example/seeds/"}},
	}
	for _, k := range kinds.All() {
		settings, ok := good()[k.Code]
		if !ok {
			t.Errorf("the kind %s is not tried", k.Code)
			continue
		}
		kept := store.Connection{Name: "members", Kind: k.Code}
		if err := c.Set(&kept, settings); err != nil {
			t.Errorf("%s: %v", k.Code, err)
			continue
		}
		for _, name := range k.Secrets() {
			if _, shown := kept.Settings[name]; shown || strings.Contains(string(kept.Sealed), "quince") {
				t.Errorf("%s: %s is kept as it is", k.Code, name)
			}
		}
		if err := c.Set(&kept, changed(settings, k.Secrets(), same[k.Code])); err != nil || len(c.Has(kept)) != 1 {
			t.Errorf("%s, where it led: %v, with %v", k.Code, err, c.Has(kept))
		}
		for _, other := range elsewhere[k.Code] {
			before := kept
			var wrong *problem.Field
			err := c.Set(&kept, changed(settings, k.Secrets(), other))
			if !errors.As(err, &wrong) || !slices.Contains(k.Secrets(), wrong.Name) || !strings.Contains(wrong.Why, "was entered for another place; enter it again") {
				t.Errorf("%s, with %v: %v", k.Code, other, err)
			}
			if string(kept.Sealed) != string(before.Sealed) || !maps.Equal(kept.Settings, before.Settings) {
				t.Errorf("%s, with %v: it is changed", k.Code, other)
			}
			again := maps.Clone(settings)
			maps.Copy(again, other)
			moved := kept
			if err := c.Set(&moved, again); err != nil {
				t.Errorf("%s, with %v and its secret: %v", k.Code, other, err)
			}
		}
	}
}

// TestSignInsGo: what a platform gave when somebody signed in there is dropped where the connection leads elsewhere.
func TestSignInsGo(t *testing.T) {
	c := newConnections(t)
	text := strings.Replace(shed.Recipe, `{"header": "Shed-Key"}`, `{"oauth": {"authorize": "/sign-in", "token": "/token"}}`, 1)
	kept := store.Connection{Name: "members", Kind: "platform"}
	if err := c.Set(&kept, map[string]string{"recipe": text, "clientId": "varnet"}); err != nil {
		t.Fatal(err)
	}
	if err := c.SetSecret(&kept, "token", `{"access_token": "quince"}`); err != nil {
		t.Fatal(err)
	}
	if err := c.Set(&kept, map[string]string{"recipe": text, "clientId": "other"}); err != nil || !slices.Equal(c.Has(kept), []string{"token"}) {
		t.Errorf("%v, with %v", err, c.Has(kept))
	}
	for _, other := range []string{strings.Replace(text, "api.pottingshed", "api.elsewhere", 1), strings.Replace(text, `"token": "/token"`, `"token": "https://tokens.elsewhere.example/"`, 1)} {
		moved := kept
		if err := c.Set(&moved, map[string]string{"recipe": other, "clientId": "varnet"}); err != nil || len(c.Has(moved)) != 0 {
			t.Errorf("%v, with %v", err, c.Has(moved))
		}
	}
}

// TestImportSays: how far an import has come is said with its whole, where that is known.
func TestImportSays(t *testing.T) {
	for want, i := range map[string]store.Import{
		"1 contact came so far.":                      {Contacts: 1},
		"1,200 of 5,000 contacts came.":               {Contacts: 1200, Expected: 5000},
		"All 5,000 contacts came, and become a list.": {Contacts: 5000, Expected: 5000, State: store.ImportImporting},
	} {
		if got := connection.ImportSays(i); got != want {
			t.Errorf("%q, not %q", got, want)
		}
	}
}

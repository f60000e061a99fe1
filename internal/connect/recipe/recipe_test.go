package recipe_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"varnet/internal/connect"
	"varnet/internal/connect/recipe"
	"varnet/internal/practice/shed"
)

// TestParse: what of a recipe is wrong is said with its place.
func TestParse(t *testing.T) {
	if _, err := recipe.Parse([]byte(shed.Recipe)); err != nil {
		t.Fatal(err)
	}
	change := func(from, to string) string {
		if !strings.Contains(shed.Recipe, from) {
			t.Fatalf("the example has no %s", from)
		}
		return strings.Replace(shed.Recipe, from, to, 1)
	}
	for text, want := range map[string]string{
		`{"recipe": 1,`:                        "the recipe is not JSON, after line 1",
		`[]`:                                   "recipe: this is a list, and an object is wanted",
		`{}`:                                   "recipe.recipe: it is missing. The version of the form: 1.",
		change(`"recipe": 1`, `"recipe": 2`):   "recipe.recipe: the version is 1, not 2",
		change(`"recipe": 1`, `"recipe": "1"`): "recipe.recipe: this is a text, and a whole number is wanted",
		change(`"paging": {"next"`, `"pagng": {"next"`):                                                "recipe.collections[0].contacts.pagng: there is no such entry; there are",
		change(`"perSecond": 10`, `"perSecond": 1e9`):                                                  "recipe.perSecond: it is 0 to 1,000",
		change(`{"header": "Shed-Key"}`, `{}`):                                                         "recipe.signIn: give either header or oauth",
		change(`"https://api.pottingshed.example/v1"`, `"file:///etc/passwd"`):                         `recipe.base: "file:///etc/passwd" is not an address`,
		change(`"paging": {"next": "next", "parameter": "after"}`, `"paging": {"parameter": "after"}`): "recipe.collections[0].contacts.paging: give one of next, page, offset and link",
		change(`"addresses": ["email", "otherEmails"]`, `"addresses": []`):                             "recipe.contact.addresses: name where the address stands",
		change(`"kind": "group",`+"\n      \"create\"", `"kind": "grp",`+"\n      \"create\""):         `recipe.write.collection.kind: there is no "grp" among the collections`,
		change(`"most": 500,`+"\n      \"failed\"", `"most": "many",`+"\n      \"failed\""):            "recipe.write.field.most: this is a text, and a whole number is wanted",
		change(`"key": "id", "addresses"`, `"addresses"`):                                              "recipe.contact.key: it is missing. Its key.",
		change(`"test": {"path": "/account", "account": "account"}`, `"test": {"account": "account"}`): "recipe.test.path: it is missing.",
	} {
		if _, err := recipe.Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q is wanted: %v", want, err)
		}
	}
}

// TestSchema: the schema in docs is the form that recipes are held to.
func TestSchema(t *testing.T) {
	file := filepath.Join("..", "..", "..", "docs", "recipe.schema.json")
	if os.Getenv("UPDATE") != "" {
		if err := os.WriteFile(file, recipe.Schema(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(file)
	if err != nil || string(text) != string(recipe.Schema()) {
		t.Errorf("docs/recipe.schema.json is not the form that recipes are held to (%v); UPDATE=yes go test writes it", err)
	}
	var s map[string]any
	if err := json.Unmarshal(recipe.Schema(), &s); err != nil || s["additionalProperties"] != false {
		t.Errorf("%v: %v", err, s["additionalProperties"])
	}
}

// hostile is a platform that answers every request by a function.
func hostile(t *testing.T, answer http.HandlerFunc) *recipe.Place {
	t.Helper()
	s := httptest.NewServer(answer)
	t.Cleanup(s.Close)
	text := strings.Replace(shed.Recipe, `"perSecond": 10`, `"perSecond": 1000`, 1)
	p, err := recipe.Open(connect.Env{AllowPrivate: true}, connect.Settings{"recipe": text, "address": s.URL, "key": "k"})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// contacts reads a group of a platform, at most so many pages.
func contacts(t *testing.T, p *recipe.Place, most int) error {
	pages := 0
	return p.Contacts(t.Context(), "group/1", "", func(connect.Page) error {
		if pages++; pages > most {
			return fmt.Errorf("it does not end within %d pages", most)
		}
		return nil
	})
}

// TestHostile: what a hostile or broken platform does is told in a sentence.
func TestHostile(t *testing.T) {
	text := func(body string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(body)) }
	}
	for name, of := range map[string]struct {
		answer http.HandlerFunc
		want   string
	}{
		"a web page":            {text("<!doctype html><title>Sign in</title>"), "answered with a web page and not with JSON. Check the address of the API."},
		"no JSON":               {text("contacts: none"), "answered with what is not JSON"},
		"the same page":         {text(`{"contacts": [{"id": "1", "email": "a@b.example"}], "next": "x"}`), "sends the same page again and again"},
		"no list":               {text(`{"people": []}`), `The answer has no list at "contacts"; it has "people". Check the recipe.`},
		"another type":          {text(`{"contacts": {"1": {}}}`), `At "contacts" of the answer there is an object and no list.`},
		"a contact of no kind":  {text(`{"contacts": ["ada@fernhollow.example"]}`), "The contact 1 of an answer is a text and no object."},
		"an address of no kind": {text(`{"contacts": [{"id": 7, "email": {"at": "b.example"}}]}`), `The contact 7 has an object as its address at "email".`},
		"no key":                {text(`{"contacts": [{"email": "ada@fernhollow.example"}]}`), `The contact 1 of an answer has no key at "id"; it has "email".`},
		"a field of 2 MB":       {text(`{"contacts": [{"id": "1", "email": "", "fields": {"note": "` + strings.Repeat("x", 2<<20) + `"}}]}`), "The field “note” of the contact 1 has more than 1 MB. Leave it out."},
		"a redirect": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://169.254.169.254/latest", http.StatusFound)
		}, "sends us elsewhere (302 Found), where nothing is followed"},
		"a refusal": {func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "no\x1b[31m way", http.StatusForbidden) }, "refused the sign-in (403 Forbidden: no [31m way). Check the key, or sign in again."},
	} {
		t.Run(name, func(t *testing.T) {
			err := contacts(t, hostile(t, of.answer), 50)
			if err == nil || !strings.Contains(err.Error(), of.want) {
				t.Errorf("%v", err)
			}
		})
	}
	t.Run("an endless answer", func(t *testing.T) {
		err := contacts(t, hostile(t, func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write([]byte(`{"contacts": [{"id": "1", "email": "`))
			for chunk := make([]byte, 1<<20); ; {
				if _, err := w.Write(chunk); err != nil {
					return
				}
			}
		}), 1)
		if err == nil || !strings.Contains(err.Error(), "has more than 64 MB") {
			t.Error(err)
		}
	})
	t.Run("a next page elsewhere", func(t *testing.T) {
		s := httptest.NewServer(text(`{"contacts": [], "next": "http://169.254.169.254/latest"}`))
		defer s.Close()
		byAddress := strings.Replace(shed.Recipe, `"paging": {"next": "next", "parameter": "after"}`, `"paging": {"next": "next"}`, 1)
		p, err := recipe.Open(connect.Env{AllowPrivate: true}, connect.Settings{"recipe": byAddress, "address": s.URL, "key": "k"})
		if err != nil {
			t.Fatal(err)
		}
		if err := contacts(t, p, 3); err == nil || !strings.Contains(err.Error(), "names a next page at another address") {
			t.Error(err)
		}
	})
	t.Run("a private address", func(t *testing.T) {
		s := httptest.NewServer(text(`{}`))
		defer s.Close()
		p, err := recipe.Open(connect.Env{}, connect.Settings{"recipe": strings.Replace(shed.Recipe, `"perSecond": 10`, `"perSecond": 1000`, 1), "address": s.URL, "key": "k"})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := p.Test(t.Context()); err == nil || !strings.Contains(err.Error(), "is not at a public address") || connect.Passes(err) {
			t.Error(err)
		}
	})
}

// TestPlaceholders: what stands in a path, query or body is text there, whatever it holds.
func TestPlaceholders(t *testing.T) {
	var seen []string
	var bodies []string
	p := hostile(t, func(w http.ResponseWriter, r *http.Request) {
		body := make([]byte, r.ContentLength)
		_, _ = r.Body.Read(body)
		seen, bodies = append(seen, r.RequestURI), append(bodies, string(body))
		_, _ = w.Write([]byte(`{"contacts": [], "refused": []}`))
	})
	err := p.Contacts(t.Context(), `group/../../admin?x=1#`, "", func(connect.Page) error { return nil })
	if err != nil || seen[0] != "/groups/..%2F..%2Fadmin%3Fx=1%23/contacts?limit=500" {
		t.Errorf("%v: %q", err, seen)
	}
	if err := p.Contacts(t.Context(), "group/..", "", func(connect.Page) error { return nil }); err != nil || strings.Contains(seen[1], "/../") {
		t.Errorf("%v: %q", err, seen[1])
	}
	_, err = p.Write(t.Context(), connect.Order{Act: connect.SetField, Name: `x": "y`, Collection: "group/1"}, []connect.Item{{Key: `1"}]`, Value: `{key}","a":"b`}})
	if want := `{"contacts":[{"fields":{"x\": \"y":"{key}\",\"a\":\"b"},"id":"1\"}]"}]}`; err != nil || bodies[len(bodies)-1] != want {
		t.Errorf("%v: %s", err, bodies[len(bodies)-1])
	}
}

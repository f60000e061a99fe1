package recipe_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"varnet/internal/connect"
	"varnet/internal/connect/recipe"
)

// plain is a recipe with little in it; each test puts into it what it is about.
func plain(parts map[string]string) string {
	read := func(name, otherwise string) string {
		if p, ok := parts[name]; ok {
			return p
		}
		return otherwise
	}
	text := `{"recipe": 1, "name": "Seed drawer", "base": "https://api.seeddrawer.example/v1", "perSecond": 1000,
		"signIn": ` + read("signIn", `{"header": "Drawer-Key"}`) + `, "test": {"path": "/me"},
		"collections": [{"kind": "drawer", "list": {"path": "/drawers"}, "id": "id", "name": "name",
			"contacts": {"path": "/drawers/{collection}/people", "query": {"of": "all"}` + read("contacts", "") + `}}],
		"contact": {"key": "id", "addresses": ["email"], "fields": {"Note": "about.note"}, "more": "extra"}`
	if w, ok := parts["write"]; ok {
		text += `, "read": ` + read("read", `{"path": "/people/{key}"}`) + `, "write": ` + w
	}
	return text + "}"
}

// platform answers as its map says, by method and path, and keeps what it was asked.
type platform struct {
	mu      sync.Mutex
	asked   []string // method, address and body
	answers map[string]func(r *http.Request, body string) (status int, answer string)
	header  http.Header
	at      string // where it is
}

// on has what a method and a path are asked answered alike.
func (p *platform) on(what string, status int, answer string) {
	p.by(what, func(*http.Request, string) (int, string) { return status, answer })
}

func (p *platform) by(what string, answer func(r *http.Request, body string) (int, string)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.answers[what] = answer
}

func (p *platform) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asked = append(p.asked, strings.TrimSpace(r.Method+" "+r.URL.RequestURI()+" "+string(body)))
	answer := p.answers[r.Method+" "+r.URL.Path]
	if answer == nil {
		http.Error(w, "there is no such thing", http.StatusNotFound)
		return
	}
	status, text := answer(r, string(body))
	for name, values := range p.header {
		w.Header()[name] = values
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_, _ = io.WriteString(w, text)
}

// saw returns what was asked since it was called last.
func (p *platform) saw() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := p.asked
	p.asked = nil
	return out
}

func newPlatform(t *testing.T) *platform {
	t.Helper()
	p := &platform{answers: map[string]func(*http.Request, string) (int, string){}, header: http.Header{}}
	s := httptest.NewServer(p)
	t.Cleanup(s.Close)
	p.at = s.URL + "/v1"
	return p
}

// open opens the platform by a recipe.
func (p *platform) open(t *testing.T, text string) *recipe.Place {
	t.Helper()
	place, err := recipe.Open(connect.Env{AllowPrivate: true}, connect.Settings{"recipe": text, "address": p.at, "key": "k"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = place.Close() })
	return place
}

// people are answers of so many contacts from one on.
func people(from, n int) string {
	var out []string
	for i := from; i < from+n; i++ {
		out = append(out, fmt.Sprintf(`{"id": %d, "email": "p%[1]d@fernhollow.example"}`, i))
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// read reads the drawer 7 from a mark on, and returns the keys and the marks of its pages.
func read(t *testing.T, p *recipe.Place, from string) (keys, marks []string, err error) {
	t.Helper()
	err = p.Contacts(t.Context(), "drawer/7", from, func(page connect.Page) error {
		for _, c := range page.Contacts {
			keys = append(keys, c.Key)
		}
		marks = append(marks, page.Next)
		if len(marks) > 20 {
			return errors.New("it does not end")
		}
		return nil
	})
	return keys, marks, err
}

// TestPaging: each way in which a list goes on is followed to its end, and from a mark of before.
func TestPaging(t *testing.T) {
	numbered := func(param string, first, step int) func(*http.Request, string) (int, string) {
		return func(r *http.Request, _ string) (int, string) {
			at, err := strconv.Atoi(r.URL.Query().Get(param))
			if err != nil {
				at = first
			}
			from := 1 + (at-first)*2/step
			return 200, people(from, max(0, min(2, 6-from)))
		}
	}
	pages := func(next map[string]string) func(*http.Request, string) (int, string) {
		return func(r *http.Request, _ string) (int, string) {
			after := r.URL.Query().Get("after")
			from, _ := strconv.Atoi(after)
			return 200, fmt.Sprintf(`{"people": %s, "next": %s}`, people(from+1, max(1, min(2, 5-from))), next[after])
		}
	}
	for name, c := range map[string]struct {
		contacts string
		answer   func(*http.Request, string) (int, string)
		marks    []string // {at} stands for where the contacts are
	}{
		"pages from 1":        {`, "paging": {"page": "p"}`, numbered("p", 1, 1), []string{"2", "3", "4", ""}},
		"items before":        {`, "paging": {"offset": "skip"}`, numbered("skip", 0, 2), []string{"2", "4", "5", ""}},
		"a mark":              {`, "items": "people", "paging": {"next": "next", "parameter": "after"}`, pages(map[string]string{"": `"2"`, "2": `"4"`, "4": `null`}), []string{"2", "4", ""}},
		"a mark, then false":  {`, "items": "people", "paging": {"next": "next", "parameter": "after"}`, pages(map[string]string{"": `2`, "2": `4`, "4": `false`}), []string{"2", "4", ""}},
		"an address":          {`, "items": "people", "paging": {"next": "next"}`, pages(map[string]string{"": `"/v1/drawers/7/people?after=2"`, "2": `"people?after=4"`, "4": `""`}), []string{"{at}?after=2", "{at}?after=4", ""}},
		"an address of query": {`, "items": "people", "paging": {"next": "next"}`, pages(map[string]string{"": `"?after=2"`, "2": `"?after=4"`, "4": `null`}), []string{"{at}?after=2", "{at}?after=4", ""}},
	} {
		t.Run(name, func(t *testing.T) {
			s := newPlatform(t)
			s.by("GET /v1/drawers/7/people", c.answer)
			p := s.open(t, plain(map[string]string{"contacts": c.contacts}))
			for i, m := range c.marks {
				c.marks[i] = strings.Replace(m, "{at}", s.at+"/drawers/7/people", 1)
			}
			keys, marks, err := read(t, p, "")
			if err != nil || fmt.Sprint(keys) != "[1 2 3 4 5]" || !slices.Equal(marks, c.marks) {
				t.Errorf("%v: contacts %v, marks %q", err, keys, marks)
			}
			if keys, _, err = read(t, p, c.marks[0]); err != nil || fmt.Sprint(keys) != "[3 4 5]" {
				t.Errorf("from the first mark on: %v, %v", keys, err)
			}
		})
	}
}

// TestPagingByLink follows the header Link, whose targets may be relative to the page (RFC 8288, 3.1).
func TestPagingByLink(t *testing.T) {
	s := newPlatform(t)
	s.by("GET /v1/drawers/7/people", func(r *http.Request, _ string) (int, string) {
		s.header.Del("Link")
		if r.URL.Query().Get("page") == "" {
			s.header.Set("Link", `</v1/drawers/7/people?page=9>; rel="prev", <?page=2>; rel="next"`)
			return 200, people(1, 2)
		}
		return 200, people(3, 1)
	})
	p := s.open(t, plain(map[string]string{"contacts": `, "paging": {"link": true}`}))
	keys, marks, err := read(t, p, "")
	if err != nil || fmt.Sprint(keys) != "[1 2 3]" || !slices.Equal(marks, []string{s.at + "/drawers/7/people?page=2", ""}) {
		t.Errorf("%v: %v, %q", err, keys, marks)
	}
	if asked := s.saw(); !slices.Equal(asked, []string{"GET /v1/drawers/7/people?of=all", "GET /v1/drawers/7/people?page=2"}) {
		t.Errorf("asked %q", asked)
	}
}

// TestPagingInACircle: pages that lead back to one that was read are told, not followed for ever.
func TestPagingInACircle(t *testing.T) {
	s := newPlatform(t)
	s.by("GET /v1/drawers/7/people", func(r *http.Request, _ string) (int, string) {
		next := map[string]string{"": "a", "a": "b", "b": "a"}[r.URL.Query().Get("after")]
		return 200, fmt.Sprintf(`{"people": %s, "next": %q}`, people(1, 1), next)
	})
	p := s.open(t, plain(map[string]string{"contacts": `, "items": "people", "paging": {"next": "next", "parameter": "after"}`}))
	if keys, _, err := read(t, p, ""); err == nil || !strings.Contains(err.Error(), "sends the same page again and again") || len(keys) != 2 {
		t.Errorf("%v: %v", err, keys)
	}
}

// TestDrawers: collections are listed with their IDs; one without any is told of as it is listed.
func TestDrawers(t *testing.T) {
	s := newPlatform(t)
	p := s.open(t, plain(nil))
	s.on("GET /v1/drawers", 200, `[{"id": 7, "name": "Beans"}, {"id": "x/y", "name": "Peas"}]`)
	all, err := p.Collections(t.Context())
	if want := []connect.Collection{{ID: "drawer/7", Name: "Beans", Kind: "drawer", Contacts: -1}, {ID: "drawer/x/y", Name: "Peas", Kind: "drawer", Contacts: -1}}; err != nil || !slices.Equal(all, want) {
		t.Errorf("%v: %+v", err, all)
	}
	s.on("GET /v1/drawers", 200, `[{"name": "Beans"}]`)
	if _, err := p.Collections(t.Context()); err == nil || err.Error() != `A drawer of the answer has no ID at "id"; it has "name". Check the recipe.` {
		t.Error(err)
	}
	if err := p.Contacts(t.Context(), "basket/7", "", nil); err == nil || !strings.Contains(err.Error(), `no collections of the kind "basket" any more`) {
		t.Error(err)
	}
}

const sets = `{"field": {"set": {"method": "PATCH", "path": "/people", "body": {"ids": "{keys}", "set": {"{name}": "{value}"}}}, "most": 3}}`

// TestValuesApart: a call that has room for one value is made for the contacts that get it, and for no others.
func TestValuesApart(t *testing.T) {
	s := newPlatform(t)
	p := s.open(t, plain(map[string]string{"write": sets}))
	s.on("PATCH /v1/people", 204, "")
	o := connect.Order{Act: connect.SetField, Name: "Decision"}
	var items []connect.Item
	for i, value := range []string{"keep", "drop", "keep", "", "keep", "keep", "drop"} {
		items = append(items, connect.Item{Key: strconv.Itoa(i), Value: value})
	}
	errs, err := p.Write(t.Context(), o, items)
	if err != nil || slices.ContainsFunc(errs, func(err error) bool { return err != nil }) {
		t.Errorf("%v, %v", err, errs)
	}
	if asked := s.saw(); !slices.Equal(asked, []string{`PATCH /v1/people {"ids":["3"],"set":{"Decision":""}}`, `PATCH /v1/people {"ids":["1","6"],"set":{"Decision":"drop"}}`,
		`PATCH /v1/people {"ids":["0","2","4"],"set":{"Decision":"keep"}}`, `PATCH /v1/people {"ids":["5"],"set":{"Decision":"keep"}}`}) {
		t.Errorf("asked %q", asked)
	}
}

// TestRoomForOne: a recipe whose call is for many contacts and names one is refused, with the place.
func TestRoomForOne(t *testing.T) {
	for where, write := range map[string]string{
		"recipe.write.tag.set.path":            `{"tag": {"set": {"method": "PUT", "path": "/people/{key}/tags"}, "most": 50}}`,
		"recipe.write.suppress.unset.query.of": `{"suppress": {"set": {"path": "/s", "body": ["{address}"]}, "unset": {"method": "DELETE", "path": "/s", "query": {"of": "{address}"}}, "most": 2}}`,
		"recipe.write.field.set.body":          `{"field": {"set": {"path": "/f", "body": {"id": "{key}", "value": "{value}"}}, "most": 2}}`,
	} {
		_, err := recipe.Parse([]byte(plain(map[string]string{"write": write})))
		if err == nil || !strings.HasPrefix(err.Error(), where+": it has room for one contact, and the call is for up to ") {
			t.Errorf("%s: %v", where, err)
		}
	}
	one := `{"tag": {"set": {"method": "PUT", "path": "/people/{key}/tags"}}}`
	if _, err := recipe.Parse([]byte(plain(map[string]string{"write": one}))); err != nil {
		t.Error(err)
	}
	if _, err := recipe.Parse([]byte(plain(map[string]string{"write": one, "read": `{"path": "/people/{key}", "most": 10}`}))); err == nil || !strings.HasPrefix(err.Error(), "recipe.read.path: it has room for one contact") {
		t.Error(err)
	}
}

// TestNow: contacts are read as they are; what a field holds that is no plain value is left, and who is gone is not found.
func TestNow(t *testing.T) {
	s := newPlatform(t)
	p := s.open(t, plain(map[string]string{"write": sets}))
	s.on("GET /v1/people/1", 200, `{"id": 1, "email": "p1@fernhollow.example", "about": {"note": "Likes beans"}, "extra": {"Bed": 12, "Seeds": ["pea", "bean"], "Plot": {"row": 3}}}`)
	s.on("GET /v1/people/2", 410, `{}`)
	items := []connect.Item{{Key: "1"}, {Key: "2"}, {Key: "3"}}
	for name, want := range map[string]connect.State{"Note": {Value: "Likes beans"}, "Bed": {Value: "12"}, "Nothing": {},
		"Seeds": {Value: "pea; bean", Leave: "it has 2 values of Seeds, which would be lost"}, "Plot": {Value: `{"row":3}`, Leave: "its Plot is an object, which would be lost"}} {
		now, err := p.Now(t.Context(), connect.Order{Act: connect.SetField, Name: name}, items)
		if err != nil || len(now) != 3 || now[1].Found || now[2].Found {
			t.Errorf("%s: %+v, %v", name, now, err)
			continue
		}
		if got := now[0]; !got.Found || got.Value != want.Value || got.Leave != want.Leave || !slices.Equal(got.Addresses, []string{"p1@fernhollow.example"}) {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

const tags = `{"tag": {"set": {"method": "POST", "path": "/tags", "body": {"add": "{name}", "ids": "{keys}"}}, "at": "tags", "most": 3, "failed": {"items": "refused", "key": "id", "words": "why"}}}`

// TestOneOfManyIsRefused: where a call for many is refused, each gets one of its own; what the answer says of some
// is theirs alone; and what passes ends the writing, to be tried again.
func TestOneOfManyIsRefused(t *testing.T) {
	s := newPlatform(t)
	p := s.open(t, plain(map[string]string{"write": tags}))
	o := connect.Order{Act: connect.Tag, Name: "kept"}
	items := []connect.Item{{Key: "1", Value: connect.Present}, {Key: "2", Value: connect.Present}, {Key: "3", Value: connect.Present}, {Key: "4", Value: connect.Present}}
	s.by("POST /v1/tags", func(_ *http.Request, body string) (int, string) {
		switch {
		case strings.Contains(body, `"2"`):
			return 422, `{"error": "2 has left"}`
		case strings.Contains(body, `"4"`):
			return 200, `{"refused": [{"id": 4, "why": "too many\ntags"}]}`
		}
		return 200, `{}`
	})
	errs, err := p.Write(t.Context(), o, items)
	if err != nil || errs[0] != nil || errs[2] != nil || errs[1] == nil || errs[3] == nil || !strings.Contains(errs[1].Error(), "2 has left") || errs[3].Error() != "too many tags" {
		t.Errorf("%v: %v", err, errs)
	}
	if asked := s.saw(); len(asked) != 5 {
		t.Errorf("asked %q", asked)
	}
	s.on("POST /v1/tags", 403, `{"error": "not yours"}`)
	if _, err := p.Write(t.Context(), o, items); !connect.IsBroken(err) {
		t.Error(err)
	}
	errs, err = p.Write(t.Context(), o, []connect.Item{{Key: "1"}})
	var skipped *connect.Skipped
	if err != nil || !errors.As(errs[0], &skipped) || skipped.Why != "the recipe does not say how to take that back" {
		t.Errorf("%v: %v", err, errs)
	}
}

const makes = `{"collection": {"kind": "drawer", "create": {"method": "POST", "path": "/drawers", "body": {"label": "{name}", "size": 12345678901234567890}}, "id": "made.id", "discard": {"method": "DELETE", "path": "/drawers/{target}"},
	"set": {"method": "PUT", "path": "/drawers/{target}/people/{key}"}}}`

// TestDrawerIsMade: a new collection is made as the recipe says, or told why not; undoing it twice does no harm.
func TestDrawerIsMade(t *testing.T) {
	s := newPlatform(t)
	p := s.open(t, plain(map[string]string{"write": makes}))
	s.on("GET /v1/drawers", 200, `[{"id": 7, "name": "Beans"}]`)
	s.on("POST /v1/drawers", 201, `{"made": {"id": "n 8"}}`)
	o := connect.Order{Act: connect.Collect, Name: `Kept "now"`}
	target, err := p.Begin(t.Context(), o)
	if err != nil || target != "drawer/n 8" {
		t.Fatalf("%q, %v", target, err)
	}
	if asked := s.saw(); asked[1] != `POST /v1/drawers {"label":"Kept \"now\"","size":12345678901234567890}` {
		t.Errorf("asked %q", asked)
	}
	o.Target = target
	s.on("PUT /v1/drawers/n 8/people/1", 204, "")
	if errs, err := p.Write(t.Context(), o, []connect.Item{{Key: "1", Value: connect.Present}}); err != nil || errs[0] != nil {
		t.Errorf("%v, %v", errs, err)
	}
	s.on("DELETE /v1/drawers/n 8", 204, "")
	for range 2 {
		if err := p.Discard(t.Context(), o); err != nil {
			t.Error(err)
		}
		s.on("DELETE /v1/drawers/n 8", 404, `{"error": "gone"}`)
	}
	o.Name = "Beans"
	if _, err := p.Begin(t.Context(), o); err == nil || err.Error() != "There is a drawer “Beans” already, with contacts in it. Choose another name." {
		t.Error(err)
	}
	if again, err := p.Begin(t.Context(), connect.Order{Act: connect.Collect, Name: "Beans", Refresh: true}); err != nil || again != "drawer/7" {
		t.Errorf("%q, %v", again, err)
	}
	s.on("POST /v1/drawers", 201, `{"made": {}}`)
	o.Name = "Peas"
	if _, err := p.Begin(t.Context(), o); err == nil || !strings.Contains(err.Error(), `has no ID at "made.id"; it has "made". Check the recipe.`) {
		t.Error(err)
	}
}

// signedIn opens the platform with a sign-in by OAuth, and returns how its token is kept.
func (p *platform) signedIn(t *testing.T, token string) (*recipe.Place, func() string) {
	t.Helper()
	kept := token
	renew := func(_ context.Context, field, had string, renew func(string) (string, error)) (string, error) {
		if field != "token" || had != kept {
			return kept, nil
		}
		made, err := renew(kept)
		if err == nil {
			kept = made
		}
		return made, err
	}
	text := plain(map[string]string{"signIn": `{"oauth": {"authorize": "/sign-in", "token": "/token"}}`})
	place, err := recipe.Open(connect.Env{AllowPrivate: true, Renew: renew}, connect.Settings{"recipe": text, "address": p.at, "clientId": "varnet", "token": token})
	if err != nil {
		t.Fatal(err)
	}
	return place, func() string { return kept }
}

func tokenUntil(end time.Time) string {
	text, _ := json.Marshal(map[string]any{"access_token": "old", "token_type": "Bearer", "refresh_token": "again", "expiry": end})
	return string(text)
}

// TestTokens: a token that has ended is refreshed before it is used, one that is refused once; a platform that is out of
// order for a moment ends no sign-in, one that refuses the token does.
func TestTokens(t *testing.T) {
	s := newPlatform(t)
	s.by("GET /v1/me", func(r *http.Request, _ string) (int, string) {
		if r.Header.Get("Authorization") != "Bearer new" {
			return 401, `{}`
		}
		return 200, `{}`
	})
	for name, token := range map[string]string{"has ended": tokenUntil(time.Now().Add(-time.Minute)), "is refused": tokenUntil(time.Now().Add(time.Hour))} {
		s.on("POST /v1/token", 200, `{"access_token": "new", "token_type": "Bearer", "expires_in": 3600}`)
		p, kept := s.signedIn(t, token)
		if _, err := p.Test(t.Context()); err != nil || !strings.Contains(kept(), `"new"`) || !strings.Contains(kept(), `"again"`) {
			t.Errorf("one that %s: %v, kept %s", name, err, kept())
		}
	}
	for _, c := range []struct {
		status int
		answer string
		says   string
		broken bool
	}{
		{503, "<html>", " gives no token just now: 503 Service Unavailable.", false},
		{429, `{"error": "slow_down"}`, " gives no token just now: slow_down.", false},
		{400, `{"error": "invalid_grant", "error_description": "The grant\nwas revoked"}`, " did not give a token: invalid_grant The grant was revoked. Sign in there again.", true},
		{401, ``, " did not give a token: 401 Unauthorized. Sign in there again.", true},
	} {
		s.on("POST /v1/token", c.status, c.answer)
		token := tokenUntil(time.Now().Add(-time.Minute))
		p, kept := s.signedIn(t, token)
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond) // what passes is tried again for longer
		_, err := p.Exchange(ctx, "http://localhost/connections/signed-in", "code", "verifier")
		cancel()
		if err == nil || !strings.HasSuffix(err.Error(), c.says) || connect.IsBroken(err) != c.broken || connect.Passes(err) == c.broken {
			t.Errorf("%d: %v", c.status, err)
		}
		if kept() != token {
			t.Errorf("%d: %s is kept", c.status, kept())
		}
	}
	p, _ := s.signedIn(t, "")
	if _, err := p.Test(t.Context()); !connect.IsBroken(err) || err.Error() != "Nobody has signed in at the platform yet; sign in there." {
		t.Error(err)
	}
	if at := p.Authorize("http://localhost/connections/signed-in", "state", "verifier"); !strings.HasPrefix(at, s.at+"/sign-in?client_id=varnet&") || !strings.Contains(at, "code_challenge_method=S256") {
		t.Error(at)
	}
}

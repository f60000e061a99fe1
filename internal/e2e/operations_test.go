package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"mime/multipart"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// described is the contract as the service gives it, as far as calls are made of it.
type described struct {
	Paths      map[string]map[string]described1
	Components struct{ Schemas map[string]schema }
}

type described1 struct {
	OperationID string
	Scope       string `json:"x-scope"`
	Parameters  []struct {
		Name, In string
		Required bool
		Schema   schema
	}
	RequestBody *struct {
		Content map[string]struct{ Schema schema }
	}
}

type schema struct {
	Ref        string `json:"$ref"`
	Type       any    // a name, or several
	Enum       []any
	Minimum    float64
	Required   []string
	Properties map[string]schema
	Items      *schema
	MinItems   int
}

// example is the least that fits a schema.
func (d *described) example(s schema) any {
	if s.Ref != "" {
		s = d.Components.Schemas[s.Ref[strings.LastIndexByte(s.Ref, '/')+1:]]
	}
	if len(s.Enum) > 0 {
		return s.Enum[0]
	}
	kind := fmt.Sprint(s.Type)
	switch {
	case strings.Contains(kind, "object"):
		out := map[string]any{}
		for _, name := range s.Required {
			out[name] = d.example(s.Properties[name])
		}
		return out
	case strings.Contains(kind, "array"):
		out := []any{}
		for range s.MinItems {
			out = append(out, d.example(*s.Items))
		}
		return out
	case kind == "integer", kind == "number":
		return max(1, int(s.Minimum))
	case kind == "boolean":
		return false
	}
	return "careful" // which is the name of a policy
}

// caller makes calls of the contract.
type caller struct {
	described
	t   *testing.T
	url string
}

var parameter = regexp.MustCompile(`\{(\w+)\}`)

// call calls an operation with a key, its path filled in, and returns the status and
// what was said; body nil stands for the least that fits.
func (c *caller) call(key, method, path string, op described1, fill map[string]string, body []byte) (int, http.Header, string) {
	c.t.Helper()
	query := url.Values{}
	for _, p := range op.Parameters {
		if value, given := fill[p.Name]; p.In == "query" && (p.Required || given) {
			if !given {
				value = fmt.Sprint(c.example(p.Schema))
			}
			query.Set(p.Name, value)
		}
	}
	path = parameter.ReplaceAllStringFunc(path, func(p string) string { return fill[p[1:len(p)-1]] })
	kind := "application/json"
	if body == nil {
		body, kind = c.body(op)
	}
	req, err := http.NewRequestWithContext(c.t.Context(), strings.ToUpper(method), c.url+"/api/v1"+path+"?"+query.Encode(), bytes.NewReader(body))
	if err != nil {
		c.t.Fatal(err)
	}
	req.Header.Set("Content-Type", kind)
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		c.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	return resp.StatusCode, resp.Header, string(text)
}

// body is the least that an operation takes.
func (c *caller) body(op described1) (body []byte, kind string) {
	if op.RequestBody == nil {
		return nil, ""
	}
	for kind, of := range op.RequestBody.Content {
		switch {
		case strings.Contains(kind, "json"):
			body, _ = json.Marshal(c.example(of.Schema))
			return body, kind
		case strings.Contains(kind, "multipart"):
			var b bytes.Buffer
			w := multipart.NewWriter(&b)
			part, _ := w.CreateFormFile("file", "seeds.csv")
			_, _ = io.WriteString(part, "e-mail\nada@seed.example\n")
			_ = w.Close()
			return b.Bytes(), w.FormDataContentType()
		}
	}
	return []byte("e-mail\nada@seed.example\n"), "application/octet-stream"
}

// each calls do for each operation, in a settled order.
func (c *caller) each(do func(name, method, path string, op described1)) {
	var paths []string
	for p := range c.Paths {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	for _, p := range paths {
		for method, op := range c.Paths[p] {
			do(fmt.Sprintf("%s %s", strings.ToUpper(method), p), method, p, op)
		}
	}
}

// holdProblem holds an answer against what a problem is to be: a document with a
// sentence for people, and nothing of our insides (RFC 9457).
func holdProblem(t *testing.T, what string, header http.Header, text string) {
	t.Helper()
	var p struct{ Title, Detail string }
	if kind := header.Get("Content-Type"); kind != "application/problem+json" || json.Unmarshal([]byte(text), &p) != nil || p.Title == "" || p.Detail == "" {
		t.Errorf("%s: %s %s", what, kind, text)
	}
	for _, inside := range []string{"SQLSTATE", "pgx", "goroutine", ".go:", "panic", "interface {}"} {
		if strings.Contains(text, inside) {
			t.Errorf("%s tells of our insides: %s", what, text)
		}
	}
}

// TestEveryOperation goes through the contract: what is called without a key, by
// another workspace, and with nonsense.
func TestEveryOperation(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	settings := testkit.Settings(testkit.Database(t), i)
	s := testkit.Serve(t, settings)
	ours := client.New(s.URL, s.Key)
	l, run := startNamed(t, ours, "members.csv", []byte("e-mail\nada@fernhollow.example\nben@fernhollow.example\n"), "syntax")
	if _, err := ours.Wait(t.Context(), run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	made, err := testkit.Command(settings, "key", "new", "-workspace", "the neighbours").Output()
	if err != nil {
		t.Fatal(err)
	}
	theirs := strings.TrimSpace(string(made))
	c := &caller{t: t, url: s.URL}
	resp, err := http.Get(s.URL + "/api/v1/openapi.json")
	if err == nil {
		err = json.NewDecoder(resp.Body).Decode(&c.described)
		_ = resp.Body.Close()
	}
	if err != nil || len(c.Paths) < 50 {
		t.Fatalf("%d paths: %v", len(c.Paths), err)
	}
	t.Run("without a key", func(t *testing.T) { c.withoutKey(t) })
	t.Run("by the neighbours", func(t *testing.T) { c.byNeighbours(t, theirs, l.ID, run.ID) })
	t.Run("with nonsense", func(t *testing.T) { c.withNonsense(t, s.SignIn(t), l.ID, run.ID) })
	after, err := ours.Run(t.Context(), run.ID)
	if err != nil || after.State != "finished" || after.Done != 2 || after.Policy != run.Policy {
		t.Errorf("after all that the run is %+v, %v", after, err)
	}
}

func (c *caller) withoutKey(t *testing.T) {
	c.each(func(name, method, path string, op described1) {
		if op.Scope == "" && op.OperationID != "get-session" && op.OperationID != "get-glossary" {
			return // it is of those who are on the way in
		}
		for _, key := range []string{"", "varnet_made_up"} {
			code, header, text := c.call(key, method, path, op, map[string]string{"id": "1", "other": "1", "ordinal": "1", "name": "seed", "month": "2026-11", "kind": "role", "key": "seed", "address": "seed@fernhollow.example"}, nil)
			if code != http.StatusUnauthorized {
				t.Errorf("%s: %d", name, code)
			}
			holdProblem(t, name, header, text)
		}
	})
}

func (c *caller) byNeighbours(t *testing.T, theirs string, list, run int64) {
	tried := 0
	c.each(func(name, method, path string, op described1) {
		fill := map[string]string{"id": fmt.Sprint(run), "other": fmt.Sprint(run), "ordinal": "1", "with": fmt.Sprint(list)}
		switch {
		case strings.HasPrefix(path, "/lists/{id}"):
			fill["id"] = fmt.Sprint(list)
		case !strings.HasPrefix(path, "/runs/{id}"):
			return
		}
		tried++
		code, header, text := c.call(theirs, method, path, op, fill, nil)
		if code != http.StatusNotFound {
			t.Errorf("%s: %d %s", name, code, text)
			return
		}
		holdProblem(t, name, header, text)
	})
	if tried < 30 {
		t.Errorf("%d operations were tried", tried)
	}
}

func (c *caller) withNonsense(t *testing.T, key string, list, run int64) {
	hold := func(name string, code int, header http.Header, text string) {
		t.Helper()
		if code < 400 || code >= 500 {
			t.Errorf("%s: %d %s", name, code, text)
			return
		}
		holdProblem(t, name, header, text)
	}
	c.each(func(name, method, path string, op described1) {
		if strings.Contains(path, "{id}") && (strings.HasPrefix(path, "/lists") || strings.HasPrefix(path, "/runs")) {
			for _, id := range []string{"nonsense", "0", "-1", "9223372036854775808", "4000000000"} {
				code, header, text := c.call(key, method, path, op, map[string]string{"id": id, "other": id, "ordinal": "1"}, nil)
				hold(name+" "+id, code, header, text)
			}
		}
		for _, p := range op.Parameters { // invalid text, and numbers that no record has
			fill := map[string]string{"id": fmt.Sprint(run), "other": fmt.Sprint(run), "ordinal": "1"}
			switch kind := fmt.Sprint(p.Schema.Type); {
			case p.In != "query":
			case kind == "string":
				fill[p.Name] = "see\x00d"
				code, header, text := c.call(key, method, path, op, fill, nil)
				hold(name+" with NUL in "+p.Name, code, header, text)
			case kind == "integer":
				fill[p.Name] = fmt.Sprint(math.MaxInt64)
				if code, _, text := c.call(key, method, path, op, fill, nil); code >= 500 {
					t.Errorf("%s with %s in %s: %d %s", name, fill[p.Name], p.Name, code, text)
				}
			}
		}
		if op.RequestBody == nil || op.RequestBody.Content["application/json"].Schema.Ref == "" {
			return
		}
		fill := map[string]string{"id": fmt.Sprint(run), "name": "seed"}
		if strings.HasPrefix(path, "/lists") {
			fill["id"] = fmt.Sprint(list)
		}
		for _, body := range []string{"", "{", "[]", `"text"`, `{"noSuchField": 1}`} {
			code, header, text := c.call(key, method, path, op, fill, []byte(body))
			hold(name+" "+body, code, header, text)
		}
		if body, _ := c.body(op); bytes.Contains(body, []byte("careful")) {
			code, header, text := c.call(key, method, path, op, fill, bytes.ReplaceAll(body, []byte("careful"), []byte(`care\u0000ful`)))
			hold(name+" with NUL", code, header, text)
		}
	})
}

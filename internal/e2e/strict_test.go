package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// apiOperation is an operation as the contract describes it.
type apiOperation struct {
	method, path string
	OperationID  string `json:"operationId"`
	Parameters   []struct {
		Name, In string
		Required bool
		Schema   struct{ Enum []string }
	}
	RequestBody *struct {
		Content map[string]any
	} `json:"requestBody"`
	Responses map[string]any
	// Scope is what a key must have; "" for none.
	Scope string `json:"x-scope"`
}

// operations reads the operations of the contract.
func operations(t *testing.T) (all []apiOperation) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(testkit.Root(), "web/openapi.json"))
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Paths map[string]map[string]apiOperation
	}
	if err := json.Unmarshal(text, &doc); err != nil {
		t.Fatal(err)
	}
	for path, methods := range doc.Paths {
		for method, op := range methods {
			op.method, op.path = strings.ToUpper(method), path
			all = append(all, op)
		}
	}
	slices.SortFunc(all, func(a, b apiOperation) int { return strings.Compare(a.path+a.method, b.path+b.method) })
	return all
}

// at is the operation's path with something in each place.
func (d apiOperation) at() string {
	path := strings.NewReplacer("{id}", "1", "{other}", "1", "{ordinal}", "1", "{kind}", "role", "{name}", "careful", "{key}", "0123456789").Replace(d.path)
	var query []string
	for _, p := range d.Parameters {
		if p.In == "query" && p.Required {
			query = append(query, p.Name+"="+append(p.Schema.Enum, "1")[0])
		}
	}
	return path + "?" + strings.Join(query, "&")
}

func (d apiOperation) takesJSON() bool {
	return d.RequestBody != nil && d.RequestBody.Content["application/json"] != nil
}

// TestStrict sends to every operation what it does not know: a name in the query, a field
// in the body, a value, a method, a type of content. Each is refused with a problem whose
// type is in the registry, by a status that the contract declares, and nothing is done.
func TestStrict(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	session := s.SignIn(t) // whose person may do everything
	types := map[string]bool{}
	for _, k := range contract.ProblemKinds() {
		types[k.Type()] = true
	}
	type problem struct {
		Type, Detail string
		Status       int
		Errors       []struct{ Location, Message string }
	}
	send := func(t *testing.T, method, path, kind, body string) (problem, *http.Response) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, s.URL+"/api/v1"+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+session)
		if kind != "" {
			req.Header.Set("Content-Type", kind)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		var p problem
		if err := json.Unmarshal(text, &p); err != nil || !strings.HasPrefix(resp.Header.Get("Content-Type"), "application/problem+json") || p.Status != resp.StatusCode || !types[p.Type] {
			t.Errorf("%s %s: %d, no problem of the registry: %s", method, path, resp.StatusCode, text)
		}
		return p, resp
	}
	refused := func(t *testing.T, d apiOperation, p problem, status int, location string) {
		t.Helper()
		if p.Status != status || location != "" && (len(p.Errors) == 0 || !slices.ContainsFunc(p.Errors, func(e struct{ Location, Message string }) bool { return strings.Contains(e.Location, location) })) {
			t.Errorf("%d %q %+v; want %d at %q", p.Status, p.Detail, p.Errors, status, location)
		}
		if d.Responses[fmt.Sprint(p.Status)] == nil {
			t.Errorf("the contract does not declare the status %d", p.Status)
		}
	}
	for _, d := range operations(t) {
		t.Run(d.OperationID, func(t *testing.T) {
			body, kind := "", ""
			if d.takesJSON() {
				body, kind = "{}", "application/json"
			}
			p, _ := send(t, d.method, d.at()+"&domian=none.example", kind, body)
			refused(t, d, p, http.StatusUnprocessableEntity, "query.domian")
			for _, q := range d.Parameters {
				if q.In == "query" && slices.Contains([]string{"finding", "cause", "decision", "trait", "stage", "limit"}, q.Name) {
					p, _ := send(t, d.method, d.at()+"&"+q.Name+"=nonsense", kind, body)
					refused(t, d, p, http.StatusUnprocessableEntity, "query."+q.Name)
				}
				if q.In == "query" && q.Name == "cursor" {
					p, _ := send(t, d.method, d.at()+"&cursor=nonsense!", kind, body)
					refused(t, d, p, http.StatusUnprocessableEntity, "query.cursor")
				}
			}
			if d.takesJSON() {
				p, _ := send(t, d.method, d.at(), kind, `{"domian": "none.example"}`)
				refused(t, d, p, http.StatusUnprocessableEntity, "body")
				p, _ = send(t, d.method, d.at(), "text/plain", "keep them")
				refused(t, d, p, http.StatusUnsupportedMediaType, "")
				p, _ = send(t, d.method, d.at(), kind, `{"domian`)
				refused(t, d, p, http.StatusBadRequest, "")
			}
			p, resp := send(t, "TRACE", d.at(), "", "")
			if p.Status != http.StatusMethodNotAllowed || !strings.Contains(resp.Header.Get("Allow"), d.method) {
				t.Errorf("a method that there is not: %d, allowed %q", p.Status, resp.Header.Get("Allow"))
			}
		})
	}
}

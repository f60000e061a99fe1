package e2e

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"varnet/internal/client"
	"varnet/internal/testkit"
)

// TestInvalidTexts: wherever a request contains NUL, or bytes that are not UTF-8, it is refused in words that name the place;
// in what a browser says of itself they do no harm.
func TestInvalidTexts(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	_, content := writeList(t, i.World, 20)
	start(t, client.New(s.URL, s.Key), content)
	call := func(method, path, body string, headers ...string) (int, string) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, s.URL+"/api/v1"+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+s.Key)
		if body != "" {
			req.Header.Set("Content-Type", "application/json")
		}
		for n := 0; n < len(headers); n += 2 {
			req.Header.Set(headers[n], headers[n+1])
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		answer, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, string(answer)
	}
	for _, c := range []struct {
		method, path, body string
		status             int
		place              string
	}{
		{"GET", "/lists?search=a%00b", "", 422, "query.search"},
		{"GET", "/lists?search=a%ffb", "", 422, "query.search"},
		{"GET", "/runs/1/results?search=a%00b", "", 422, "query.search"},
		{"GET", "/runs/1/results?domain=a%00b", "", 422, "query.domain"},
		{"GET", "/audit?action=a%00b", "", 422, "query.action"},
		{"GET", "/policies/a%00b", "", 422, "path"},
		{"DELETE", "/policies/a%fe", "", 422, "path"},
		{"POST", "/workers/a%00b/drain", "", 422, "path"},
		{"PATCH", "/lists/1", `{"name": "a\u0000b"}`, 400, "name: NUL (U+0000)"},
		{"POST", "/keys", `{"name": "a\u0000b", "scopes": ["read"]}`, 400, "name: NUL (U+0000)"},
		{"POST", "/lists/1/runs", `{"depth": "mailbox", "policy": "care\u0000ful"}`, 400, "policy: NUL (U+0000)"},
		{"POST", "/checks", `{"address": "a\u0000b@fernhollow.example"}`, 400, "address: NUL (U+0000)"},
	} {
		if status, answer := call(c.method, c.path, c.body); status != c.status || !strings.Contains(answer, c.place) || !strings.Contains(answer, "are not allowed in text") {
			t.Errorf("%s %s %s: %d %s", c.method, c.path, c.body, status, answer)
		}
	}
	// A backslash and five letters are text.
	if status, answer := call("PATCH", "/lists/1", `{"name": "a\\u0000b"}`, "User-Agent", "seeds/\xff1", "Idempotency-Key", "\xfe1"); status != 200 || !strings.Contains(answer, `a\\u0000b`) {
		t.Errorf("%d %s", status, answer)
	}
	if status, answer := call("POST", "/keys", `{"name": "seeds", "scopes": ["read"]}`, "User-Agent", "seeds/\xff1", "Idempotency-Key", "\xfe1"); status >= 500 {
		t.Errorf("%d %s", status, answer)
	}
	if log := s.Log(); strings.Contains(log, "a request failed") {
		t.Errorf("the log says %s", log)
	}
}

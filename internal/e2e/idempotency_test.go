package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"varnet/internal/client"
	"varnet/internal/testkit"
)

// TestIdempotencyKeys sends every request that makes something twice with one key, and many
// times at once: it is made once, and answered alike, with the place where it is.
func TestIdempotencyKeys(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	send := func(path, kind, key, body string) (int, string, string) {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, s.URL+"/api/v1"+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+s.Key)
		req.Header.Set("Content-Type", kind)
		req.Header.Set("Idempotency-Key", key)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(text), resp.Header.Get("Location")
	}
	for n, c := range []struct{ path, kind, body string }{
		{"/lists?fileName=members.csv", "application/octet-stream", "e-mail\niris@postbarn.example\nlark@postbarn.example\n"},
		{"/lists/1/imports?mode=append", "application/octet-stream", "e-mail\nmoss@postbarn.example\n"},
		{"/lists/2/runs", "application/json", `{"depth": "syntax"}`},
		{"/keys", "application/json", `{"name": "spring", "scopes": ["read"]}`},
	} {
		key := fmt.Sprint("key-of-", n, "-and-more")
		status, first, at := send(c.path, c.kind, key, c.body)
		again, second, there := send(c.path, c.kind, key, c.body)
		if status != http.StatusCreated || again != status || idOf(t, first) != idOf(t, second) || at == "" || there != at {
			t.Errorf("%s: %d at %q, again %d at %q\n%s\n%s", c.path, status, at, again, there, first, second)
		}
		if got := ask(t, s, at); got != http.StatusOK && !strings.HasPrefix(c.path, "/keys") {
			t.Errorf("%s: what was made is not at %s: %d", c.path, at, got)
		}
	}
	if status, text, _ := send("/keys", "application/json", "key-of-3-and-more", `{"name": "autumn", "scopes": ["read"]}`); status != http.StatusUnprocessableEntity || !strings.Contains(text, "idempotency-key-reused") {
		t.Errorf("another request with the same key: %d %s", status, text)
	}
	if status, _, _ := send("/keys", "application/json", "a-wrong-one-first", `{"name": "", "scopes": ["read"]}`); status != http.StatusUnprocessableEntity {
		t.Errorf("a wrong request: %d", status)
	}
	if status, _, _ := send("/keys", "application/json", "a-wrong-one-first", `{"name": "winter", "scopes": ["read"]}`); status != http.StatusCreated {
		t.Errorf("corrected under the same key: %d", status)
	}
	var wait sync.WaitGroup
	answers := make([]int, 8)
	for n := range answers {
		wait.Go(func() {
			answers[n], _, _ = send("/lists/2/runs", "application/json", "many-at-once-of-it", `{"depth": "syntax"}`)
		})
	}
	wait.Wait()
	for _, status := range answers {
		if status != http.StatusCreated && status != http.StatusConflict {
			t.Errorf("at once: %v", answers)
		}
	}
	if runs, err := newestRuns(t.Context(), api); err != nil || len(runs) != 2 {
		t.Errorf("%d runs were made, %v; want 2", len(runs), err)
	}
}

func idOf(t *testing.T, text string) int64 {
	t.Helper()
	var it struct{ ID int64 }
	if err := json.Unmarshal([]byte(text), &it); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
	return it.ID
}

// ask looks whether something is at a place.
func ask(t *testing.T, s *testkit.Service, at string) int {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL+at, nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+s.Key)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	_ = resp.Body.Close()
	return resp.StatusCode
}

package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"varnet/internal/account"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestScopes calls every operation with a key of every single scope: it is let through by the
// one that it wants and refused by all others, before anything else of the request is looked at.
func TestScopes(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	keys := map[string]string{}
	for _, scope := range account.Scopes() {
		k, err := api.MakeKey(t.Context(), contract.NewKey{Name: string(scope), Scopes: []string{string(scope)}})
		if err != nil || !account.IsKey(k.Key) {
			t.Fatalf("%+v, %v", k, err)
		}
		keys[string(scope)] = k.Key
	}
	calls, refusals := 0, 0
	for _, d := range operations(t) {
		for scope, key := range keys {
			status, detail := d.calledWith(t, s, key)
			refused := status == http.StatusForbidden && strings.Contains(detail, "scope")
			if want := d.Scope != "" && d.Scope != scope; refused != want {
				t.Errorf("%s with a key for %s: %d %s; refused should be %v", d.OperationID, scope, status, detail, want)
			}
			if calls++; refused {
				refusals++
			}
		}
	}
	if t.Logf("%d calls, %d of them refused", calls, refusals); refusals == 0 || calls < len(keys)*70 {
		t.Error("that is too few")
	}
	_, err := client.New(s.URL, keys["manage"]).MakeKey(t.Context(), contract.NewKey{Name: "more", Scopes: []string{"manage", "export"}})
	if status(err) != http.StatusForbidden || !strings.Contains(err.Error(), "export") {
		t.Errorf("a key gives what it has not: %v", err)
	}
	// The key that all tests have was made first, and has all scopes.
	if _, err := client.New(s.URL, keys["manage"]).RotateKey(t.Context(), 1, contract.KeyRotation{}); status(err) != http.StatusForbidden {
		t.Errorf("a key is replaced by one with fewer scopes, which then has them all: %v", err)
	}
	if _, err := client.New(s.URL, keys["read"]+"x").Keys(t.Context()); status(err) != http.StatusUnauthorized {
		t.Errorf("a key with one character more: %v", err)
	}
}

// calledWith calls an operation in a way that no operation takes, so that nothing is done, and
// returns the answer's status and detail.
func (d apiOperation) calledWith(t *testing.T, s *testkit.Service, key string) (status int, detail string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), d.method, s.URL+"/api/v1"+d.at()+"&domian=none.example", strings.NewReader("{}"))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+key)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	var p struct{ Detail string }
	_ = json.Unmarshal(text, &p)
	return resp.StatusCode, p.Detail
}

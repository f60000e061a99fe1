package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"varnet/internal/account"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// callerOfAll is somebody who calls every operation, and the scopes that they have.
type callerOfAll struct {
	name, bearer string
	scopes       []account.Scope
}

// TestAccess calls every operation as somebody of every role and with a key of every single
// scope, of the own workspace and of another: who has what it wants is let through to it, and
// all others are refused before anything else of the request is looked at.
func TestAccess(t *testing.T) {
	t.Parallel()
	p, _ := withLetters(t)
	_, run := startNamed(t, p.owner.api(), "members.csv", []byte("e-mail\nada@fernhollow.example\nben@fernhollow.example\n"), "syntax")
	if _, err := p.owner.api().Wait(t.Context(), run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	outsider := visit(t, p.Service) // who has a workspace of their own
	callers := []callerOfAll{{"nobody", "", nil}, {"the owner of the installation", p.owner.session(), append(account.Owner.Scopes(false), account.Installation, account.Self)}}
	for n, r := range account.Roles() {
		v := p.member(fmt.Sprintf("member%d@fernhollow.example", n), "A "+string(r), string(r))
		if r == account.Owner {
			outsider = p.member("outsider@fernhollow.example", "An outsider", string(account.Reader))
			outsider.must("POST", "/workspaces", contract.WorkspaceName{Name: "the neighbours"}, nil)
		}
		callers = append(callers, callerOfAll{string(r), v.session(), append(r.Scopes(false), account.Self)})
	}
	gone := p.member("gone@fernhollow.example", "Gone", string(account.Owner))
	gone.must("POST", "/team/leave", nil, nil)
	callers = append(callers, callerOfAll{"who has left", gone.session(), []account.Scope{account.Self}},
		callerOfAll{"an owner elsewhere", outsider.session(), append(account.Owner.Scopes(false), account.Self)})
	for _, scope := range account.Scopes() {
		n := contract.NewKey{Name: string(scope), Scopes: []string{string(scope)}}
		if scope == account.Form {
			n.Origins = []string{"https://www.fernhollow.example"}
		}
		k, err := p.owner.api().MakeKey(t.Context(), n)
		if err != nil || !account.IsKey(k.Key) {
			t.Fatalf("%s: %+v, %v", scope, k, err)
		}
		callers = append(callers, callerOfAll{"a key to " + string(scope), k.Key, []account.Scope{scope}})
	}
	counts := map[string]int{}
	for _, d := range operations(t) {
		for _, c := range callers {
			code, detail := d.calledWith(t, p.Service, c.bearer)
			for code == http.StatusTooManyRequests { // strangers have a rate
				time.Sleep(500 * time.Millisecond)
				code, detail = d.calledWith(t, p.Service, c.bearer)
			}
			want := c.answer(d)
			if counts["calls"]++; code != want {
				t.Errorf("%s by %s: %d %s; want %d", d.OperationID, c.name, code, detail, want)
			}
			counts[fmt.Sprint(want)]++
		}
	}
	if t.Logf("%d operations, %d callers: %v", len(operations(t)), len(callers), counts); counts["403"] < 300 || counts["422"] < 300 {
		t.Error("that is too few")
	}
	t.Run("things of another workspace", func(t *testing.T) { elsewhere(t, p, outsider, run) })
	t.Run("what a key cannot give", func(t *testing.T) {
		manage := callers[slices.IndexFunc(callers, func(c callerOfAll) bool { return c.name == "a key to manage" })].bearer
		_, err := client.New(p.URL, manage).MakeKey(t.Context(), contract.NewKey{Name: "more", Scopes: []string{"manage", "export"}})
		if status(err) != http.StatusForbidden || !strings.Contains(err.Error(), "export") {
			t.Errorf("a key gives what it has not: %v", err)
		}
		// The key that all tests have was made first, and has all scopes.
		if _, err := client.New(p.URL, manage).RotateKey(t.Context(), 1, contract.KeyRotation{}); status(err) != http.StatusForbidden {
			t.Errorf("a key is replaced by one with fewer scopes, which then has them all: %v", err)
		}
		if _, err := client.New(p.URL, manage+"x").Keys(t.Context()); status(err) != http.StatusUnauthorized {
			t.Errorf("a key with one character more: %v", err)
		}
	})
}

// answer is what somebody is to be answered who calls an operation in a way that it does not
// take: who may not call it at all is told that alone.
func (c callerOfAll) answer(d apiOperation) int {
	public := d.Scope == "" && !slices.Contains([]string{"get-session", "get-glossary", "get-event-kinds", "get-connection-kinds"}, d.OperationID)
	switch {
	case public:
		return http.StatusUnprocessableEntity
	case c.scopes == nil:
		return http.StatusUnauthorized
	case c.name == "a key to form": // which is for pages of its origins
		return http.StatusForbidden
	case d.Scope != "" && !slices.Contains(c.scopes, account.Scope(d.Scope)):
		return http.StatusForbidden
	}
	return http.StatusUnprocessableEntity
}

// elsewhere has the owner of another workspace call every operation on what is in this one, in
// the right way: there is nothing of it for them.
func elsewhere(t *testing.T, p post, outsider *visitor, run contract.Run) {
	c := &caller{t: t, url: p.URL}
	code, _, text := outsider.send("GET", "/openapi.json", nil, nil)
	if err := json.Unmarshal([]byte(text), &c.described); err != nil || code != http.StatusOK {
		t.Fatalf("%d, %v", code, err)
	}
	tried := 0
	c.each(func(name, method, path string, op described1) {
		// Without a scope it is of whoever has its secret, and not of a workspace.
		if !strings.Contains(path, "{id}") || op.Scope == "" || op.Scope == string(account.Installation) || op.Scope == string(account.Self) {
			return
		}
		fill := map[string]string{"id": fmt.Sprint(run.ID), "other": fmt.Sprint(run.ID), "ordinal": "1", "number": "1", "with": fmt.Sprint(run.ListID)}
		if strings.HasPrefix(path, "/lists") {
			fill["id"] = fmt.Sprint(run.ListID)
		}
		if strings.HasPrefix(path, "/team/members") {
			fill["id"] = "1" // the owner there
		}
		code, _, text := c.call(outsider.session(), method, path, op, fill, nil)
		if tried++; code != http.StatusNotFound {
			t.Errorf("%s: %d %s", name, code, text)
		}
	})
	if t.Logf("%d operations were tried", tried); tried < 35 {
		t.Error("that is too few")
	}
	if _, err := p.owner.api().Run(t.Context(), run.ID); err != nil {
		t.Errorf("the run is gone: %v", err)
	}
}

// calledWith calls an operation in a way that no operation takes, so that nothing is done, and
// returns the answer's status and detail.
func (d apiOperation) calledWith(t *testing.T, s *testkit.Service, bearer string) (status int, detail string) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), d.method, s.URL+"/api/v1"+d.at()+"&domian=none.example", strings.NewReader("{}"))
	if err != nil {
		t.Fatal(err)
	}
	if bearer != "" {
		req.Header.Set("Authorization", "Bearer "+bearer)
	}
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

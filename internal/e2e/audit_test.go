package e2e

import (
	"bufio"
	"encoding/json"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestAuditTrail: what was done, and what was refused, is written down with who and where,
// without an address; nobody changes it unseen, not even by the database.
func TestAuditTrail(t *testing.T) {
	t.Parallel()
	p, _ := withLetters(t)
	_, run := startNamed(t, p.owner.api(), "members.csv", []byte("e-mail\nada@fernhollow.example\nben@fernhollow.example\n"), "syntax")
	if _, err := p.owner.api().Wait(t.Context(), run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	bea := p.member("bea.quill@fernhollow.example", "Bea Quill", "reader")
	bea.call("GET", "/runs/1/export/file", nil, nil)
	visit(t, p.Service).call("POST", "/sign-in/password", contract.AddressAndPassword{Address: "bea.quill@fernhollow.example", Password: "a guess of theirs"}, nil)
	p.owner.send("GET", "/runs/1/export/file?decision=all", nil, nil)
	p.owner.must("POST", "/runs/1/overrides?finding=undecided", map[string]string{"decision": "drop"}, nil)
	p.owner.must("PUT", "/retention", contract.Retention{Days: 90}, nil)
	p.owner.must("DELETE", "/lists/1", nil, nil)
	var page contract.Page[contract.AuditEntry]
	p.owner.must("GET", "/audit?limit=200", nil, &page)
	text, _ := json.Marshal(page)
	if regexp.MustCompile(`[\w.]+@[\w.]+`).Match(text) {
		t.Errorf("there is an address in it: %s", text)
	}
	found := map[string]contract.AuditEntry{}
	for _, e := range page.Items {
		found[e.Action+" "+e.Result] = e
	}
	for what, holds := range map[string]func(contract.AuditEntry) bool{
		"export-rows refused":     func(e contract.AuditEntry) bool { return e.Person == "Bea Quill" && e.Thing == "runs/1" },
		"export-rows begun":       func(e contract.AuditEntry) bool { return e.Person == "Ada Moss" && e.Thing == "runs/1" },
		"sign-in done":            func(e contract.AuditEntry) bool { return e.Person == "Ada Moss" && e.Address != "" },
		"sign-in refused":         func(e contract.AuditEntry) bool { return e.Person == "Bea Quill" && e.From != "" },
		"override-matching done":  func(e contract.AuditEntry) bool { return e.Thing == "runs/1" },
		"set-retention done":      func(e contract.AuditEntry) bool { return e.Says != "" },
		"delete-list done":        func(e contract.AuditEntry) bool { return e.Thing == "lists/1" },
		"invite done":             func(e contract.AuditEntry) bool { return e.Detail == "reader" && len(e.Address) == 16 },
		"join-by-invitation done": func(e contract.AuditEntry) bool { return e.Person == "Bea Quill" },
	} {
		if e, ok := found[what]; !ok || !holds(e) {
			t.Errorf("%s: %+v, %v", what, e, ok)
		}
	}
	if code, _ := bea.call("GET", "/audit", nil, nil); code != 403 {
		t.Errorf("a reader reads the trail: %d", code)
	}
	page = contract.Page[contract.AuditEntry]{}
	p.owner.must("GET", "/installation/audit?limit=200", nil, &page)
	if text, _ := json.Marshal(page); !strings.Contains(string(text), "set-letter-server") || strings.Contains(string(text), "runs/1") {
		t.Errorf("of the installation: %s", text)
	}
	verified := func() (v contract.AuditVerification) {
		t.Helper()
		p.owner.must("GET", "/installation/audit/verification", nil, &v)
		return v
	}
	if v := verified(); v.Broken != 0 || v.Entries < 10 || v.Last != v.First+v.Entries-1 {
		t.Errorf("%+v", v)
	}
	for _, sql := range []string{"UPDATE audit SET body = body WHERE seq = 5", "DELETE FROM audit WHERE seq = 5", "TRUNCATE audit"} {
		if refused := try(t, p.Service, sql); refused == nil {
			t.Errorf("%s is done", sql)
		}
	}
	// Somebody who owns the database takes what keeps it away.
	execute(t, p.Service, `ALTER TABLE audit DISABLE TRIGGER USER; UPDATE audit SET body = replace(body, '"result":"refused"', '"result":"done"') WHERE seq = (SELECT min(seq) FROM audit WHERE body LIKE '%"refused"%')`)
	v := verified()
	if v.Broken == 0 || !strings.Contains(v.Says, "not as it was written") {
		t.Errorf("one changed entry is not found: %+v", v)
	}
	out, err := testkit.Command(p.Env, "audit", "verify").CombinedOutput()
	if err == nil || !strings.Contains(string(out), "not as it was written") {
		t.Errorf("%s, %v", out, err)
	}
	execute(t, p.Service, `UPDATE audit SET hash = sha256(before || convert_to(body, 'UTF8')) WHERE seq = `+itoa(v.Broken)+`; `)
	if next := verified(); next.Broken != v.Broken+1 {
		t.Errorf("an entry changed with its hash is not found at the next: %+v", next)
	}
	execute(t, p.Service, `DELETE FROM audit WHERE seq = `+itoa(v.Broken)+` OR seq = `+itoa(v.Broken+1))
	if gap := verified(); gap.Broken == 0 || !strings.Contains(gap.Says, "some are missing") {
		t.Errorf("entries taken out are not found: %+v", gap)
	}
}

// TestSignInCommand: the command line is signed in by its person, works as them, keeps its
// token for itself, and signs out.
func TestSignInCommand(t *testing.T) {
	t.Parallel()
	p, _ := withLetters(t)
	home := t.TempDir()
	varnet := func(args ...string) *exec.Cmd {
		cmd := testkit.Command(append(p.Env, "VARNET_KEY=", "XDG_CONFIG_HOME="+home, "HOME="+home), args...)
		return cmd
	}
	cmd := varnet("sign-in")
	shown, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	code := ""
	for lines := bufio.NewScanner(shown); code == "" && lines.Scan(); {
		_, code, _ = strings.Cut(lines.Text(), "type this code: ")
	}
	p.owner.must("POST", "/devices/answer", contract.DeviceAnswer{DeviceCode: contract.DeviceCode{Code: code}, LetIn: true}, nil)
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case err := <-done:
		if err != nil {
			t.Fatal(err)
		}
	case <-time.After(30 * time.Second):
		t.Fatal("it is not signed in")
	}
	file := filepath.Join(home, "varnet", "sessions.json")
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	for call, want := range map[string]string{"team": "Ada Moss", "team workspaces": "default", "team invite cai.fern@fernhollow.example member": "/invitation#", "lists": "There is no list here", "keys make report": "varnet_"} {
		out, err := varnet(strings.Fields(call)...).CombinedOutput()
		if err != nil || !strings.Contains(string(out), want) {
			t.Errorf("%s: %v: %s", call, err, out)
		}
	}
	if out, err := varnet("team").CombinedOutput(); err != nil || !strings.Contains(string(out), "cai.fern@fernhollow.example") {
		t.Errorf("the invitation does not show: %s", out)
	}
	if out, err := varnet("sign-out").CombinedOutput(); err != nil {
		t.Errorf("%v: %s", err, out)
	}
	if out, err := varnet("team").CombinedOutput(); err == nil || !strings.Contains(string(out), "You are not signed in") {
		t.Errorf("signed out: %s", out)
	}
}

// TestServiceRole: the service works as a role of the database that owns nothing, and to which
// the audit trail is closed but for appending.
func TestServiceRole(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	owner := testkit.Database(t)
	at, err := url.Parse(owner)
	if err != nil {
		t.Fatal(err)
	}
	role := strings.Trim(at.Path, "/") + "_service"
	settings := testkit.Settings(owner, i)
	conn, err := pgx.Connect(t.Context(), owner)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if _, err := conn.Exec(t.Context(), "CREATE ROLE "+role+" LOGIN PASSWORD 'serves'"); err != nil {
		t.Fatal(err)
	}
	if out, err := testkit.Command(settings, "migrate", "-serve-as", role).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	at.User = url.UserPassword(role, "serves")
	s := testkit.Serve(t, append(testkit.Settings(at.String(), i), "VARNET_MIGRATE=no"))
	api := client.New(s.URL, s.Key)
	_, run := startNamed(t, api, "members.csv", []byte("e-mail\nada.moss@fernhollow.example\nben@longgone.example\n"), "mailbox")
	if r, err := api.Wait(t.Context(), run.ID, func(contract.Run) {}); err != nil || r.State != "finished" {
		t.Errorf("%+v, %v", r, err)
	}
	if err := api.DeleteList(t.Context(), run.ListID); err != nil {
		t.Error(err)
	}
	if v, err := api.VerifyAudit(t.Context()); err != nil || v.Entries < 2 || v.Broken != 0 {
		t.Errorf("%+v, %v", v, err)
	}
	for _, sql := range []string{"UPDATE audit SET body = '{}'", "TRUNCATE audit", "ALTER TABLE audit DISABLE TRIGGER USER", "DROP TABLE audit", "DELETE FROM audit"} {
		if err := try(t, s, sql); err == nil {
			t.Errorf("the service's role may %s", sql)
		}
	}
}

// Package e2e drives the built binary, the API and the console the way people
// do, on the practice internet.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/core/pace"
	"varnet/core/policy"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

const rows = 1200

// writeList writes the demo list and returns its path and content.
func writeList(t *testing.T, w *practice.World, n int) (string, []byte) {
	t.Helper()
	var b bytes.Buffer
	if err := w.WriteList(&b, n); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "members.csv")
	if err := os.WriteFile(path, b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	return path, b.Bytes()
}

// checkKept holds a file of kept rows against the list it came from and the
// truth: every line stands in the list as it is, in its order; no address is
// there twice; and not one of them is missing, or at a host that takes all.
func checkKept(t *testing.T, w *practice.World, list, kept []byte) int {
	t.Helper()
	in, out := bytes.SplitAfter(list, []byte("\n")), bytes.SplitAfter(kept, []byte("\n"))
	if !bytes.Equal(in[0], out[0]) {
		t.Fatalf("the header is %q, not %q", out[0], in[0])
	}
	at, n, seen := 1, 0, map[string]bool{}
	d := sheet.Dialect{Delimiter: ",", Quote: `"`, Encoding: sheet.UTF8}
	for _, line := range out[1:] {
		if len(line) == 0 {
			continue
		}
		i := slices.IndexFunc(in[at:], func(l []byte) bool { return bytes.Equal(l, line) })
		if i < 0 {
			t.Fatalf("%q does not stand in the list after line %d", line, at)
		}
		at, n = at+i+1, n+1
		canonical := practice.Canonical(d.Cell(line, 2))
		truth := w.Truth(canonical)
		if truth.Refutes(finding.Deliverable) {
			t.Errorf("%s is kept, and the truth is %+v", canonical, truth)
		}
		if seen[canonical] {
			t.Errorf("%s is kept twice", canonical)
		}
		seen[canonical] = true
	}
	return n
}

func TestCommandLine(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	list, content := writeList(t, i.World, rows)
	out := filepath.Join(t.TempDir(), "kept.csv")

	text, err := testkit.Command(s.Env, "clean", list, "-out", out).CombinedOutput()
	if err != nil {
		t.Fatalf("clean: %v\n%s", err, text)
	}
	kept, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	n := checkKept(t, i.World, content, kept)
	if want := say.Number(int64(n)) + " of 1,200 rows will be kept."; n < 500 || !strings.Contains(string(text), want) {
		t.Errorf("%d rows were kept, and the sentence says:\n%s", n, text)
	}

	t.Run("check", func(t *testing.T) {
		text, err := testkit.Command(s.Env, "check", "-json", "nobody.atall@fernhollow.example", "ada@@fernhollow.example",
			"anybody@sundial-nursery.example", "someone@longgone.example", "x@nomail.example").Output()
		if err != nil {
			t.Fatal(err)
		}
		want := []finding.Cause{finding.MailboxAbsent, finding.SyntaxMalformed, finding.MailboxAnyAccepted, finding.DomainAbsent, finding.DomainNoMail}
		var page contract.Page[contract.Evidence]
		if err := json.Unmarshal(text, &page); err != nil || len(page.Items) != len(want) {
			t.Fatalf("%s: %v", text, err)
		}
		for n, e := range page.Items {
			if e.Cause != want[n] || e.Meaning == "" || e.Decision == policy.Keep {
				t.Errorf("address %d: %+v, want cause %s", n, e, want[n])
			}
		}
		if text, _ := testkit.Command(s.Env, "check", "-v", "nobody.atall@fernhollow.example").Output(); !strings.Contains(string(text), "It answered:   550 5.1.1") {
			t.Errorf("check -v shows no reply:\n%s", text)
		}
	})
	t.Run("lists and runs", func(t *testing.T) {
		for command, want := range map[string]string{"lists": "finished", "runs": "addresses are concluded"} {
			if text, err := testkit.Command(s.Env, command).Output(); err != nil || !strings.Contains(string(text), want) {
				t.Errorf("%s: %v\n%s", command, err, text)
			}
		}
	})
	t.Run("catalogue", func(t *testing.T) {
		call := func(args ...string) string {
			text, err := testkit.Command(s.Env, args...).CombinedOutput()
			if err != nil {
				t.Errorf("%v: %v\n%s", args, err, text)
			}
			return string(text)
		}
		const someone = "ada.moss1@fernhollow.example"
		if text := call("check", "-json", someone); strings.Contains(text, "disposable") {
			t.Errorf("it is disposable already: %s", text)
		}
		if text := call("catalogue", "add", "disposable", "Fernhollow.example"); !strings.Contains(text, "fernhollow.example") {
			t.Errorf("it was not added: %s", text)
		}
		if text := call("check", "-json", someone); !strings.Contains(text, `"disposable"`) || !strings.Contains(text, `"factors":`) {
			t.Errorf("the entry does not count: %s", text)
		}
		call("catalogue", "remove", "disposable", "fernhollow.example")
		if text := call("catalogue"); !strings.Contains(text, "no entries of your own") {
			t.Errorf("it was not removed: %s", text)
		}
	})
	t.Run("same mailbox", func(t *testing.T) {
		api := client.New(s.URL, s.Key)
		for same, want := range map[bool]int64{false: 4, true: 2} {
			body := strings.NewReader("e-mail\nada.moss@postbarn.example\nadamoss+seeds@postbarn.example\nada.moss@fernhollow.example\nADA.MOSS@fernhollow.example\nadamoss@postbarn.example\n")
			l, err := api.Import(t.Context(), client.File{Name: "same.csv", Body: body, SameMailbox: same})
			if err != nil || l.Addresses != want || l.Duplicates != 5-want {
				t.Errorf("%v: %+v, %v", same, l, err)
			}
		}
	})
	t.Run("export", func(t *testing.T) {
		api, ctx := client.New(s.URL, s.Key), t.Context()
		runs, err := newestRuns(ctx, api)
		if err != nil {
			t.Fatal(err)
		}
		kept := map[string]int{}
		for _, p := range policy.Ready() {
			total := 0
			for _, d := range policy.Decisions() {
				how := contract.ExportChoice{Decision: string(d), Policy: p.Name}
				said, err := api.ExportPreview(ctx, runs[0].ID, how)
				if err != nil {
					t.Fatal(err)
				}
				var file bytes.Buffer
				if err := api.ExportFile(ctx, runs[0].ID, how, &file); err != nil {
					t.Fatal(err)
				}
				lines := bytes.Count(file.Bytes(), []byte("\n")) - 1
				if int64(lines) != said.Rows {
					t.Errorf("%s, %s: the file has %d rows, and %d were said", p.Name, d, lines, said.Rows)
				}
				if total += lines; d == policy.Keep {
					kept[p.Name] = lines
				}
			}
			if total != rows {
				t.Errorf("%s: keep, hold and drop together are %d rows, not %d", p.Name, total, rows)
			}
		}
		if kept["strict"] >= kept["careful"] || kept["careful"] >= kept["reach-further"] {
			t.Errorf("kept: %v", kept)
		}
		if _, err := api.ExportPreview(ctx, runs[0].ID, contract.ExportChoice{Policy: "lax"}); status(err) != http.StatusUnprocessableEntity {
			t.Errorf("an unknown policy: %v", err)
		}
	})
}

// TestKilledService kills the service in the middle of a run and starts it
// again: the run ends by itself, with one result per address.
func TestKilledService(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	_, content := writeList(t, i.World, rows)
	run := start(t, api, content)

	waitForTheMiddle(t, api, run.ID)
	before := inTheMiddle(t, api, run.ID)
	_ = s.Signal(syscall.SIGKILL)
	s.Start(t)
	killed := time.Now()
	ctx, cancel := context.WithTimeout(ctx, 120*time.Second)
	defer cancel()
	after, err := api.Wait(ctx, run.ID, func(contract.Run) {})
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("killed with %d of %d concluded; ended %v after the restart", before.Done, before.Addresses, time.Since(killed).Round(time.Second))
	checkResults(t, api, after, i.World)
}

// waitForTheMiddle waits until a run is in the middle.
func waitForTheMiddle(t *testing.T, api *client.Client, run int64) {
	t.Helper()
	for range 2000 {
		if r, err := api.Run(t.Context(), run); err == nil && middle(r) {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// middle tells a run of which a part is concluded.
func middle(r contract.Run) bool { return r.Done > 100 && r.Open > 0 }

// inTheMiddle wants a run to be in the middle still.
func inTheMiddle(t *testing.T, api *client.Client, run int64) contract.Run {
	t.Helper()
	r, err := api.Run(t.Context(), run)
	if err != nil || !middle(r) {
		t.Fatalf("the run could not be caught in the middle: %+v, %v", r, err)
	}
	return r
}

// start brings a list in and starts its run.
func start(t *testing.T, api *client.Client, content []byte) contract.Run {
	t.Helper()
	_, run := startNamed(t, api, "members.csv", content, "mailbox")
	return run
}

// startNamed does so with a file of that name, to a depth.
func startNamed(t *testing.T, api *client.Client, name string, content []byte, depth string) (contract.List, contract.Run) {
	t.Helper()
	l, err := api.Import(t.Context(), client.File{Name: name, Body: bytes.NewReader(content)})
	if err != nil {
		t.Fatal(err)
	}
	run, err := api.StartRun(t.Context(), l.ID, contract.NewRun{Depth: depth, Policy: "careful"})
	if err != nil {
		t.Fatal(err)
	}
	return l, run
}

// verified brings a list of so many rows in and waits for its run.
func verified(t *testing.T, api *client.Client, w *practice.World, rows int) (contract.List, contract.Run) {
	t.Helper()
	_, content := writeList(t, w, rows)
	l, run := startNamed(t, api, "members.csv", content, "mailbox")
	run, err := api.Wait(t.Context(), run.ID, func(contract.Run) {})
	if err != nil {
		t.Fatal(err)
	}
	return l, run
}

// allResults reads every result of a run, page by page.
func allResults(t *testing.T, api *client.Client, run int64) (all []contract.Result) {
	t.Helper()
	all, err := api.AllResults(t.Context(), run, nil)
	if err != nil {
		t.Fatal(err)
	}
	return all
}

// checkResults holds a run's results against its counts and the truth.
func checkResults(t *testing.T, api *client.Client, run contract.Run, w *practice.World) {
	t.Helper()
	all := allResults(t, api, run.ID)
	seen := map[int32]bool{}
	for _, r := range all {
		if seen[r.Ordinal] {
			t.Errorf("address %d has two results", r.Ordinal)
		}
		seen[r.Ordinal] = true
		if truth := w.Truth(strings.ToLower(r.Mailbox)); truth.Refutes(r.Finding) {
			t.Errorf("%s is called %s (%s), and the truth is %+v: %s", r.Mailbox, r.Finding, r.Cause, truth, evidenceOf(t, api, run, r))
		}
	}
	if int64(len(all)) != run.Addresses || run.Done != run.Addresses {
		t.Errorf("%d results and %d concluded for %d addresses", len(all), run.Done, run.Addresses)
	}
}

// evidenceOf is what was seen of an address and of its domain.
func evidenceOf(t *testing.T, api *client.Client, run contract.Run, r contract.Result) string {
	t.Helper()
	e, err := api.Evidence(t.Context(), run.ID, r.Ordinal)
	text, _ := json.Marshal(struct {
		Asked      []contract.Asked
		Acceptance *contract.Acceptance
		Error      error
	}{e.Asked, e.Acceptance, err})
	return string(text)
}

// TestTwoProcesses runs a service and a worker on one database: no operator
// sees more sessions at a time than it has lanes, and a worker that is told to
// stop gives back what it has not asked.
func TestTwoProcesses(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	settings := testkit.Settings(testkit.Database(t), i)
	s := testkit.Serve(t, settings)
	worker := testkit.Command(settings, "worker")
	if err := worker.Start(); err != nil {
		t.Fatal(err)
	}
	api := client.New(s.URL, s.Key)
	_, content := writeList(t, i.World, rows)
	one, two := start(t, api, content), start(t, api, content)
	drainWorker(t, s, api)
	if err := worker.Wait(); err != nil {
		t.Errorf("the worker did not stop cleanly: %v", err)
	}
	for _, run := range []contract.Run{one, two} {
		ctx, cancel := context.WithTimeout(t.Context(), 120*time.Second)
		after, err := api.Wait(ctx, run.ID, func(contract.Run) {})
		cancel()
		if err != nil {
			t.Fatal(err)
		}
		checkResults(t, api, after, i.World)
	}
	for _, h := range i.Hosts() {
		if n := h.Stats().MostOpen; n > pace.DefaultCap {
			t.Errorf("%s saw %d sessions at a time; at most %d are allowed", h.Name, n, pace.DefaultCap)
		}
	}
}

// drainWorker waits for the service and the worker to show, and brings the
// worker to its end.
func drainWorker(t *testing.T, s *testkit.Service, api *client.Client) {
	t.Helper()
	for range 1200 {
		workers, err := api.Workers(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if len(workers) < 2 {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		time.Sleep(1500 * time.Millisecond) // it is to have parcels in hand
		i := slices.IndexFunc(workers, func(w contract.Worker) bool { return !w.Serves })
		if err := api.DrainWorker(t.Context(), workers[i].ID); err != nil {
			t.Fatal(err)
		}
		text, err := testkit.Command(s.Env, "workers").CombinedOutput()
		// It may have come to its end before the command could look.
		if gone := !strings.Contains(string(text), "  no "); err != nil || !gone && !strings.Contains(string(text), ", draining") {
			t.Errorf("%v: %s", err, text)
		}
		return
	}
	t.Fatal("the worker does not show")
}

func TestWorkspacesAndKeys(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	settings := testkit.Settings(testkit.Database(t), i)
	s := testkit.Serve(t, settings)
	ours, ctx := client.New(s.URL, s.Key), t.Context()
	_, content := writeList(t, i.World, 40)
	run := start(t, ours, content)
	if _, err := ours.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	key, err := testkit.Command(settings, "key", "new", "-workspace", "the neighbours").Output()
	if err != nil {
		t.Fatal(err)
	}
	theirs := client.New(s.URL, strings.TrimSpace(string(key)))

	t.Run("another workspace sees nothing", func(t *testing.T) {
		if lists, err := newestLists(ctx, theirs); err != nil || len(lists) != 0 {
			t.Errorf("lists: %v, %v", lists, err)
		}
		tries := map[string]func() error{
			"run":      func() error { _, err := theirs.Run(ctx, run.ID); return err },
			"stop":     func() error { _, err := theirs.StopRun(ctx, run.ID); return err },
			"results":  func() error { _, err := theirs.Results(ctx, run.ID, nil); return err },
			"evidence": func() error { _, err := theirs.Evidence(ctx, run.ID, 1); return err },
			"take out": func() error {
				_, err := theirs.ExportPreview(ctx, run.ID, contract.ExportChoice{Decision: "keep"})
				return err
			},
			"file": func() error {
				return theirs.ExportFile(ctx, run.ID, contract.ExportChoice{Decision: "keep"}, io.Discard)
			},
			"start": func() error {
				_, err := theirs.StartRun(ctx, run.ListID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
				return err
			},
		}
		for name, try := range tries {
			if err := try(); status(err) != http.StatusNotFound {
				t.Errorf("%s: %v", name, err)
			}
		}
	})
	t.Run("an unknown key is told so", func(t *testing.T) {
		_, err := newestLists(ctx, client.New(s.URL, "varnet_wrong"))
		if status(err) != http.StatusUnauthorized || !strings.Contains(err.Error(), "not signed in") {
			t.Errorf("got %v", err)
		}
	})
	t.Run("a session signs in and out, and no other site may use it", func(t *testing.T) {
		body, _ := json.Marshal(contract.AddressAndPassword{Address: testkit.Person, Password: testkit.Password})
		resp, err := http.Post(s.URL+"/api/v1/sign-in/password", "application/json", bytes.NewReader(body))
		if err != nil || resp.StatusCode != http.StatusOK || len(resp.Cookies()) != 2 {
			t.Fatalf("sign in: %v, %v", resp, err)
		}
		cookie := resp.Cookies()[0]
		if !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode {
			t.Errorf("the cookie is %v", cookie)
		}
		call := func(method, path, site string) int {
			req, _ := http.NewRequestWithContext(ctx, method, s.URL+"/api/v1"+path, nil)
			req.AddCookie(cookie)
			req.Header.Set("Sec-Fetch-Site", site)
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			_ = resp.Body.Close()
			return resp.StatusCode
		}
		if got := call("GET", "/lists", "same-origin"); got != http.StatusOK {
			t.Errorf("with the session: %d", got)
		}
		if got := call("POST", "/runs/1/stop", "cross-site"); got != http.StatusForbidden {
			t.Errorf("a write from another site: %d", got)
		}
		if got := call("DELETE", "/session", "same-origin"); got != http.StatusNoContent {
			t.Errorf("sign out: %d", got)
		}
		if got := call("GET", "/lists", "same-origin"); got != http.StatusUnauthorized {
			t.Errorf("after signing out: %d", got)
		}
	})
	t.Run("what operators read", func(t *testing.T) {
		for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready", "/api/v1/docs": "/lists/{id}/runs", "/api/v1/openapi.json": `"openapi":"3.1`} {
			resp, err := http.Get(s.URL + path)
			if err != nil {
				t.Fatal(err)
			}
			text, _ := io.ReadAll(resp.Body)
			_ = resp.Body.Close()
			if resp.StatusCode != http.StatusOK || !strings.Contains(string(text), want) {
				t.Errorf("%s: %d, without %q", path, resp.StatusCode, want)
			}
		}
	})
}

// newestRuns returns the first page of runs.
func newestRuns(ctx context.Context, api *client.Client) ([]contract.Run, error) {
	page, err := api.Runs(ctx, contract.PageQuery{})
	return page.Items, err
}

// newestLists returns the first page of lists.
func newestLists(ctx context.Context, api *client.Client) ([]contract.List, error) {
	page, err := api.Lists(ctx, contract.ListQuery{})
	return page.Items, err
}

// status is the HTTP status of a problem the service told.
func status(err error) int {
	if p, ok := err.(*client.Problem); ok {
		return p.Status
	}
	return 0
}

// TestSlow: what the file slow names is there, so that script/e2e leaves no test out.
func TestSlow(t *testing.T) {
	names, err := os.ReadFile("slow")
	if err != nil {
		t.Fatal(err)
	}
	files, _ := filepath.Glob("*_test.go")
	var tests strings.Builder
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		tests.Write(text)
	}
	for _, name := range strings.Fields(string(names)) {
		if !strings.Contains(tests.String(), "\nfunc "+name+"(t ") {
			t.Errorf("there is no test %s", name)
		}
	}
}

package e2e

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"varnet/core/event"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// routineOf is a routine that is run by hand.
func routineOf(list int64, change func(*contract.RoutineSpec)) contract.NewRoutine {
	n := contract.NewRoutine{Name: "By hand", RoutineSpec: contract.RoutineSpec{Source: "list", ListID: list, Rule: "FREQ=YEARLY", Time: "03:00", Policy: "careful", Then: "nothing", Tell: "always"}}
	change(&n.RoutineSpec)
	return n
}

// TestRoutineLimits: a time that meets a limit waits for a person, and none begins beside it; no
// name leads out of the workspace's folder.
func TestRoutineLimits(t *testing.T) {
	t.Parallel()
	i, clock, folder := testkit.World(t, "fernhollow"), newCalendar(t), t.TempDir()
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file, "VARNET_ROUTINE_FOLDER="+folder))
	api, ada, ctx := client.New(s.URL, s.Key), client.New(s.URL, s.SignIn(t)), t.Context()
	header, lines, at := people(t, i.World, 40)
	l, err := api.Import(ctx, client.File{Name: "members.csv", Body: strings.NewReader(header + strings.Join(lines, ""))})
	if err != nil {
		t.Fatal(err)
	}
	for field, change := range map[string]func(*contract.RoutineSpec){
		"body.file":        func(r *contract.RoutineSpec) { r.Source, r.File = "folder", "../2/members.csv" },
		"body.listId":      func(r *contract.RoutineSpec) { r.ListID = 0 },
		"body.url":         func(r *contract.RoutineSpec) { r.Source, r.URL = "url", "ftp://files.fernhollow.example/members.csv" },
		"body.thenFile":    func(r *contract.RoutineSpec) { r.Then, r.ThenFile = "folder", "/etc/cron.d/varnet" },
		"body.rule":        func(r *contract.RoutineSpec) { r.Rule = "FREQ=SECONDLY" },
		"body.ages":        func(r *contract.RoutineSpec) { r.Ages = map[string]int{"undecided": 3} },
		"body.hours":       func(r *contract.RoutineSpec) { r.Hours = "at night" },
		"body.mostDropped": func(r *contract.RoutineSpec) { r.MostDropped = 101 },
	} {
		if _, err := api.MakeRoutine(ctx, routineOf(l.ID, change)); status(err) != 422 || !strings.Contains(err.Error(), field) {
			t.Errorf("%s: %v", field, err)
		}
	}
	if _, err := api.MakeRoutine(ctx, routineOf(l.ID+100, func(*contract.RoutineSpec) {})); status(err) != 404 {
		t.Errorf("another's list: %v", err)
	}
	escaped(t, api, folder)

	// Too many would be asked about.
	r, err := api.MakeRoutine(ctx, routineOf(l.ID, func(s *contract.RoutineSpec) { s.MostChecks, s.MostDropped = 10, 10 }))
	if err != nil {
		t.Fatal(err)
	}
	dry, err := api.RunRoutine(ctx, r.ID, true)
	if err != nil {
		t.Fatal(err)
	}
	if dry = ended(t, api, r.ID, dry.Number); dry.State != "done" || dry.RunID != 0 || !strings.Contains(dry.Says, "Nobody was asked") || !strings.Contains(dry.Says, "more than the 10 a time") {
		t.Errorf("a dry run: %+v", dry)
	}
	run := func() contract.RoutineTime {
		t.Helper()
		begun, err := api.RunRoutine(ctx, r.ID, false)
		if err != nil {
			t.Fatal(err)
		}
		return ended(t, api, r.ID, begun.Number)
	}
	if held := run(); held.State != "held" || held.RunID != 0 {
		t.Fatalf("%+v", held)
	}
	if _, err := api.RunRoutine(ctx, r.ID, false); status(err) != 409 {
		t.Errorf("another beside it: %v", err)
	}
	clock.until(*r.NextAt) // and by the calendar
	eventually(t, 20*time.Second, func() (bool, string) {
		n, err := ada.Notices(ctx)
		codes := map[event.Code]bool{}
		for _, x := range n.Items {
			codes[x.Code] = true
		}
		return codes[event.RoutineHeld] && codes[event.RoutineNotRun], fmt.Sprint(codes, err)
	})
	decide := func(number int, goOn bool) contract.RoutineTime {
		t.Helper()
		if _, err := api.DecideRoutine(ctx, r.ID, number, goOn); err != nil {
			t.Fatal(err)
		}
		var one contract.RoutineTime
		eventually(t, 60*time.Second, func() (bool, string) {
			page, err := api.RoutineTimes(ctx, r.ID, contract.PageQuery{})
			for _, x := range page.Items {
				if x.Number == number {
					one = x
				}
			}
			return one.EndedAt != nil || one.State == "held" && one.RunID != 0, fmt.Sprint(one.State, err)
		})
		return one
	}
	if left := decide(2, false); left.State != "left" || left.RunID != 0 {
		t.Errorf("left: %+v", left)
	}
	if _, err := api.DecideRoutine(ctx, r.ID, 2, true); status(err) != 409 {
		t.Errorf("decided twice: %v", err)
	}
	held := run()
	first := decide(held.Number, true)
	if first.State != "done" || first.Record.Asked != 40 {
		t.Fatalf("went on: %+v", first)
	}
	// A quarter of the mailboxes is closed.
	closed := 0
	for _, line := range lines {
		if truth := i.World.Truth(at[line]); truth.Deliverable() && !truth.AnyAccepted && closed < 10 {
			i.World.CloseMailbox(at[line])
			closed++
		}
	}
	many := run()
	many = decide(many.Number, true)
	if many.State != "held" || many.RunID == 0 || !strings.Contains(many.Says, "would be dropped now") {
		t.Fatalf("%d of %d mailboxes were closed: %+v", closed, first.Record.Kept, many)
	}
	if last := decide(many.Number, true); last.State != "done" || last.Record.NewlyDropped < int64(closed)/2 {
		t.Errorf("%+v", last)
	}
}

// escaped has routines read and write by links that lead out of the workspace's folder.
func escaped(t *testing.T, api *client.Client, folder string) {
	t.Helper()
	outside := t.TempDir()
	if err := os.WriteFile(filepath.Join(outside, "members.csv"), []byte("e-mail\nada.moss@fernhollow.example\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	own := filepath.Join(folder, "1")
	if err := os.MkdirAll(own, 0o750); err != nil {
		t.Fatal(err)
	}
	for _, link := range []string{"linked.csv", "linked"} {
		to := outside
		if strings.HasSuffix(link, ".csv") {
			to = filepath.Join(outside, "members.csv")
		}
		if err := os.Symlink(to, filepath.Join(own, link)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(own, "plain.csv"), []byte("e-mail\npostmaster@fernhollow.example\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, change := range map[string]func(*contract.RoutineSpec){
		"a link to a file":      func(s *contract.RoutineSpec) { s.File = "linked.csv" },
		"a link to a folder":    func(s *contract.RoutineSpec) { s.File = "linked/members.csv" },
		"a file into a folder":  func(s *contract.RoutineSpec) { s.File, s.Then, s.ThenFile = "plain.csv", "folder", "linked/kept" },
		"a file that is no one": func(s *contract.RoutineSpec) { s.File = "nobody.csv" },
	} {
		r, err := api.MakeRoutine(t.Context(), routineOf(0, func(s *contract.RoutineSpec) { s.Source = "folder"; change(s) }))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if _, err := api.RunRoutine(t.Context(), r.ID, false); err != nil {
			t.Fatal(err)
		}
		if one := ended(t, api, r.ID, 1); one.State != "failed" || strings.Contains(one.Says, outside) {
			t.Errorf("%s: %s: %s", name, one.State, one.Says)
		}
	}
	if found, _ := filepath.Glob(filepath.Join(outside, "kept*")); len(found) > 0 {
		t.Errorf("written outside: %q", found)
	}
}

// files is a host of files that knows what it has given.
type files struct {
	mu      sync.Mutex
	content []byte
	tag     string
	asked   []string // the statuses of what was read
	put     []byte
}

func (f *files) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case r.Method == http.MethodPut:
		f.put, _ = io.ReadAll(r.Body)
		w.WriteHeader(http.StatusCreated)
	case r.Header.Get("If-None-Match") == f.tag:
		f.asked = append(f.asked, "unchanged")
		w.WriteHeader(http.StatusNotModified)
	default:
		f.asked = append(f.asked, "read")
		w.Header().Set("ETag", f.tag)
		_, _ = w.Write(f.content)
	}
}

func (f *files) set(content, tag string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.content, f.tag = []byte(content), tag
}

// TestRoutineByAddress: a routine reads a file at an address, asks whether it has changed, and
// sends the kept rows to another.
func TestRoutineByAddress(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	header, lines, _ := people(t, i.World, 30)
	f := &files{}
	f.set(header+strings.Join(lines[:20], ""), `"one"`)
	host := httptest.NewServer(f)
	defer host.Close()
	r, err := api.MakeRoutine(ctx, routineOf(0, func(s *contract.RoutineSpec) {
		s.Source, s.URL, s.Then, s.ThenURL, s.Ages = "url", host.URL+"/members.csv", "url", host.URL+"/kept.csv", map[string]int{"deliverable": 30, "undeliverable": 30, "catch-all": 30}
	}))
	if err != nil {
		t.Fatal(err)
	}
	run := func() contract.RoutineTime {
		t.Helper()
		begun, err := api.RunRoutine(ctx, r.ID, false)
		if err != nil {
			t.Fatal(err)
		}
		one := ended(t, api, r.ID, begun.Number)
		if one.State != "done" {
			t.Fatalf("%+v", one)
		}
		var exported bytes.Buffer
		if err := api.ExportFile(ctx, one.RunID, contract.ExportChoice{Decision: "keep", Form: "rows", Format: "original"}, &exported); err != nil || !bytes.Equal(f.put, exported.Bytes()) {
			t.Errorf("%d bytes were sent, the export has %d: %v", len(f.put), exported.Len(), err)
		}
		return one
	}
	first := run()
	if second := run(); !second.Record.Unchanged || second.ListID != first.ListID || second.Record.Asked >= first.Record.Asked {
		t.Errorf("unchanged: %+v", second)
	}
	f.set(header+strings.Join(lines[5:30], ""), `"two"`)
	if third := run(); third.Record.Unchanged || third.Record.Added != 10 || third.Record.Gone != 5 || third.ListID == first.ListID {
		t.Errorf("changed: %+v", third)
	}
	if got := strings.Join(f.asked, " "); got != "read unchanged read" {
		t.Errorf("the host was asked: %s", got)
	}
	comparison, err := api.Compare(ctx, first.RunID+2, first.RunID)
	if err != nil || comparison.Both == 0 {
		t.Errorf("runs of two lists compared: %+v, %v", comparison, err)
	}
	host.Close()
	if _, err := api.RunRoutine(ctx, r.ID, false); err != nil {
		t.Fatal(err)
	}
	if gone := ended(t, api, r.ID, 4); gone.State != "failed" || !strings.Contains(gone.Says, "cannot be reached") {
		t.Errorf("the host is gone: %+v", gone)
	}
	if r, err = api.ChangeRoutine(ctx, r.ID, contract.RoutineChange{Paused: new(true)}); err != nil || !r.Paused || r.NextAt != nil {
		t.Errorf("paused: %+v, %v", r, err)
	}
}

package e2e

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"varnet/core/address"
	"varnet/core/event"
	"varnet/core/sheet"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
	"varnet/internal/webhook"
)

// calendar is the clock of a service whose days pass within a test.
type calendar struct {
	t     *testing.T
	file  string
	ahead time.Duration
}

func newCalendar(t *testing.T) *calendar {
	c := &calendar{t: t, file: filepath.Join(t.TempDir(), "clock")}
	c.set(0)
	return c
}

func (c *calendar) set(ahead time.Duration) {
	c.t.Helper()
	if err := os.WriteFile(c.file, []byte(ahead.String()), 0o600); err != nil {
		c.t.Fatal(err)
	}
	c.ahead = ahead
}

// until sets the clock to a moment.
func (c *calendar) until(at time.Time) { c.t.Helper(); c.set(max(0, time.Until(at)+time.Second)) }

// people are lines of the world's list with an address of their own that is one, by the address.
func people(t *testing.T, w *practice.World, n int) (header string, lines []string, at map[string]string) {
	t.Helper()
	_, text := writeList(t, w, 3*n)
	all := bytes.SplitAfter(text, []byte("\n"))
	d := sheet.Dialect{Delimiter: ",", Quote: `"`, Encoding: sheet.UTF8}
	at = map[string]string{}
	seen := map[string]bool{}
	for _, line := range all[1:] {
		canonical := practice.Canonical(d.Cell(line, 2))
		if _, err := address.Parse(canonical); err != nil || seen[canonical] || len(lines) == n {
			continue
		}
		seen[canonical] = true
		lines, at[string(line)] = append(lines, string(line)), canonical
	}
	if len(lines) < n {
		t.Fatalf("%d people", len(lines))
	}
	return string(all[0]), lines, at
}

// ended waits for a time of a routine to end, or to be held.
func ended(t *testing.T, api *client.Client, routine int64, number int) contract.RoutineTime {
	t.Helper()
	var last contract.RoutineTime
	eventually(t, 90*time.Second, func() (bool, string) {
		r, err := api.Routine(t.Context(), routine)
		if err != nil || r.Last == nil {
			return false, fmt.Sprintf("no time has begun: %v", err)
		}
		last = *r.Last
		return last.Number >= number && (last.EndedAt != nil || last.State == "held"), fmt.Sprintf("time %d is %s", last.Number, last.State)
	})
	return last
}

// TestRoutine is a routine on the members' list that runs three times while people join, leave
// and change: what is told and written is what changed.
func TestRoutine(t *testing.T) {
	t.Parallel()
	i, clock, folder := testkit.World(t, "fernhollow"), newCalendar(t), t.TempDir()
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file, "VARNET_ROUTINE_FOLDER="+folder))
	api, ada, ctx := client.New(s.URL, s.Key), client.New(s.URL, s.SignIn(t)), t.Context()
	box := letterbox(t, i, s)
	told, _ := receiver(t, i, api, event.RoutineDone, event.ExportReady, event.RoutineFailed)
	wishes := contract.LetterWishes{Zone: "Europe/Berlin", DailyHour: 7, Choices: []contract.LetterWish{{Code: event.RoutineDone, Choice: event.AtOnce}, {Code: event.RunFinished, Choice: event.Never}}}
	if _, err := ada.SetLetterWishes(ctx, wishes); err != nil {
		t.Fatal(err)
	}
	own := filepath.Join(folder, "1")
	if err := os.MkdirAll(own, 0o750); err != nil {
		t.Fatal(err)
	}
	header, lines, at := people(t, i.World, 150)
	put := func(lines []string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(own, "members.csv"), []byte(header+strings.Join(lines, "")), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	put(lines[:100])
	r, err := api.MakeRoutine(ctx, contract.NewRoutine{Name: "Members, every night", RoutineSpec: contract.RoutineSpec{Source: "folder", File: "mem*.csv",
		Rule: "FREQ=DAILY", Time: "03:00", Zone: "Europe/Berlin", Ages: map[string]int{"deliverable": 30, "catch-all": 30, "undeliverable": 90}, Policy: "careful",
		Then: "folder", ThenFile: "kept/{name}-{date}", Tell: "always"}})
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(r.Due, "Every day at 03:00, Europe/Berlin") || r.NextAt == nil {
		t.Errorf("it is due %q, next %v", r.Due, r.NextAt)
	}

	var times []contract.RoutineTime
	day := func(number int, lines []string) contract.RoutineTime {
		t.Helper()
		put(lines)
		clock.until(*r.NextAt)
		done := ended(t, api, r.ID, number)
		if r, err = api.Routine(ctx, r.ID); err != nil {
			t.Fatal(err)
		}
		if done.State != "done" || done.Number != number || done.Missed != 0 {
			t.Fatalf("day %d: %+v", number, done)
		}
		holdWritten(t, api, i.World, own, clock, done, header, lines)
		times = append(times, done)
		return done
	}
	first := day(1, lines[:100])
	if rec := first.Record; rec.Rows != 100 || rec.Addresses != 100 || rec.Asked != 100 || rec.Reused != 0 || rec.Added != 100 {
		t.Errorf("the first day: %+v", rec)
	}
	// Ten leave, twelve join.
	second := day(2, append(slices.Clone(lines[10:100]), lines[100:112]...))
	if rec := second.Record; rec.Rows != 102 || rec.Added != 12 || rec.Gone != 10 || rec.KeptBefore != first.Record.Kept || rec.Asked+rec.Reused != 102 || rec.Reused < 60 {
		t.Errorf("the second day: %+v", rec)
	}
	// Nobody joins or leaves, and a mailbox is closed: thirty-one days later it is asked about
	// again, and its finding has changed.
	gone := ""
	for _, line := range lines[10:100] {
		if truth := i.World.Truth(at[line]); gone == "" && truth.Deliverable() && !truth.AnyAccepted {
			gone = at[line]
		}
	}
	i.World.CloseMailbox(gone)
	clock.set(clock.ahead + 30*24*time.Hour)
	time.Sleep(100 * time.Millisecond)
	third := ended(t, api, r.ID, 3)
	if rec := third.Record; third.State != "done" || third.Missed != 29 || !rec.Unchanged || rec.Added+rec.Gone != 0 || rec.Asked < 60 {
		t.Errorf("the third time: %s, %d missed, %+v", third.State, third.Missed, rec)
	}
	if !slices.ContainsFunc(third.Record.Changes, func(c contract.RoutineMovements) bool {
		return c.From == "deliverable" && c.To == "undeliverable" && c.Addresses == 1
	}) || third.Record.NewlyDropped != 1 {
		t.Errorf("one mailbox was closed: %+v", third.Record)
	}
	times = append(times, third)
	holdTold(t, told, box, ada, times)
}

// TestNothingIsLost kills the service and breaks its connections off while events happen and a
// routine is due night after night: every event is delivered, each time under the same id and in
// the order of its thing; no night is skipped, and none is there twice.
func TestNothingIsLost(t *testing.T) {
	t.Parallel()
	i, clock := testkit.World(t, "fernhollow"), newCalendar(t)
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	lose := loser(t, s)
	told, _ := receiver(t, i, api, event.ImportDone, event.EstimateDone, event.RoutineDone, event.RunFinished)
	var seen sync.Map
	var events atomic.Int64
	told.Answers(func(w http.ResponseWriter, req *http.Request) int { // it does not take every third event at first
		code := http.StatusNoContent
		if _, again := seen.LoadOrStore(req.Header.Get(webhook.ID), true); !again && events.Add(1)%3 == 0 {
			code = http.StatusServiceUnavailable
		}
		w.WriteHeader(code)
		return code
	})
	import1 := func(n int) contract.List {
		t.Helper()
		file := client.File{Name: fmt.Sprintf("members-%d.csv", n), Key: fmt.Sprint("list ", n), Body: strings.NewReader(fmt.Sprintf("e-mail\nmember%d@fernhollow.example\n", n))}
		var l contract.List
		eventually(t, 60*time.Second, func() (bool, string) {
			file.Body = strings.NewReader(fmt.Sprintf("e-mail\nmember%d@fernhollow.example\n", n))
			var err error
			l, err = api.Import(ctx, file)
			return err == nil, fmt.Sprint(err)
		})
		return l
	}
	l := import1(0)
	r, err := api.MakeRoutine(ctx, contract.NewRoutine{Name: "Nightly", RoutineSpec: contract.RoutineSpec{Source: "list", ListID: l.ID, Rule: "FREQ=DAILY", Time: "03:00", Policy: "careful", Then: "nothing", Tell: "always"}})
	if err != nil {
		t.Fatal(err)
	}
	const nights, lists = 3, 24
	first := *r.NextAt
	for n := range nights {
		clock.until(first.AddDate(0, 0, n))
		for k := range lists / nights {
			import1(1 + n*lists/nights + k)
		}
		lose("true")
		time.Sleep(300 * time.Millisecond)
		_ = s.Signal(syscall.SIGKILL)
		s.Start(t)
		ended(t, api, r.ID, n+1)
	}
	times, err := api.RoutineTimes(ctx, r.ID, contract.PageQuery{})
	if err != nil || len(times.Items) != nights {
		t.Fatalf("%d nights, %v", len(times.Items), err)
	}
	for n, one := range times.Items {
		if due := first.AddDate(0, 0, nights-1-n); one.Number != nights-n || one.State != "done" || one.Missed != 0 || !one.DueAt.Equal(due) || one.RunID == 0 {
			t.Errorf("night %d: %+v", nights-n, one)
		}
	}
	runs, err := api.Runs(ctx, contract.PageQuery{})
	if err != nil || len(runs.Items) != nights {
		t.Errorf("%d runs of %d nights, %v", len(runs.Items), nights, err)
	}
	holdDelivered(t, api, told, lists+1, nights)
}

// holdDelivered holds what was delivered against the events there are.
func holdDelivered(t *testing.T, api *client.Client, told *practice.Receiver, lists, nights int) {
	t.Helper()
	var p contract.Page[contract.Event]
	eventually(t, 60*time.Second, func() (_ bool, said string) {
		var err error
		count := map[event.Code]int{}
		p, err = api.Events(t.Context(), 0, 500)
		for _, e := range p.Items {
			count[e.Code]++
		}
		return count[event.ImportDone] == lists && count[event.RunFinished] == nights && count[event.RoutineDone] == nights, fmt.Sprintf("events: %v, %v", count, err)
	})
	eventually(t, 120*time.Second, func() (bool, string) {
		taken := map[string]bool{}
		for _, c := range told.Calls() {
			taken[c.ID] = taken[c.ID] || c.Status < 300
		}
		for _, e := range p.Items {
			if !taken[e.ID] {
				return false, fmt.Sprintf("event %d (%s) is not delivered", e.Seq, e.Code)
			}
		}
		return true, ""
	})
	ids, last := map[int64]string{}, map[string]int64{}
	for _, c := range told.Calls() {
		if c.Verified != nil || ids[c.Seq] != "" && ids[c.Seq] != c.ID {
			t.Errorf("event %d came as %s and %s: %v", c.Seq, ids[c.Seq], c.ID, c.Verified)
		}
		if ids[c.Seq] = c.ID; c.Seq < last[c.Thing] {
			t.Errorf("about %s event %d came after %d", c.Thing, c.Seq, last[c.Thing])
		}
		last[c.Thing] = max(last[c.Thing], c.Seq)
	}
}

// holdWritten holds the file that a time wrote against the export of its run, and the truth.
func holdWritten(t *testing.T, api *client.Client, w *practice.World, own string, clock *calendar, done contract.RoutineTime, header string, lines []string) {
	t.Helper()
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	name := "kept/members-" + time.Now().Add(clock.ahead).In(berlin).Format("2006-01-02") + ".csv"
	if done.Record.Written != name {
		t.Fatalf("written to %q, not %q", done.Record.Written, name)
	}
	written, err := os.ReadFile(filepath.Join(own, name))
	if err != nil {
		t.Fatal(err)
	}
	var exported bytes.Buffer
	if err := api.ExportFile(t.Context(), done.RunID, contract.ExportChoice{Decision: "keep", Form: "rows", Format: "original"}, &exported); err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(written, exported.Bytes()) {
		t.Errorf("the file has %d bytes, the export %d", len(written), exported.Len())
	}
	if kept := checkKept(t, w, []byte(header+strings.Join(lines, "")), written); int64(kept) != done.Record.Kept {
		t.Errorf("%d rows are written, and the record says %d", kept, done.Record.Kept)
	}
}

// holdTold holds notices, letters and calls against the times of a routine.
func holdTold(t *testing.T, told *practice.Receiver, box *practice.Letterbox, ada *client.Client, times []contract.RoutineTime) {
	t.Helper()
	calls := func(code event.Code) (says []string) {
		for _, c := range told.Calls() {
			if c.Verified != nil {
				t.Errorf("a call is not signed: %v", c.Verified)
			}
			if c.Code == string(code) {
				says = append(says, string(c.Body))
			}
		}
		return says
	}
	eventually(t, 15*time.Second, func() (bool, string) {
		n, l := len(calls(event.RoutineDone)), len(box.Letters(testkit.Person))
		return n == len(times) && l == len(times), fmt.Sprintf("%d calls and %d letters", n, l)
	})
	done, letters := calls(event.RoutineDone), box.Letters(testkit.Person)
	slices.Reverse(letters)
	for n, one := range times {
		if !strings.Contains(done[n], one.Says) {
			t.Errorf("call %d says %s, and the time %q", n, done[n], one.Says)
		}
		if flat := strings.Join(strings.Fields(letters[n].Text), " "); !strings.Contains(flat, one.Says) {
			t.Errorf("letter %d says %s, and the time %q", n, flat, one.Says)
		}
	}
	notices, err := ada.Notices(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	at := slices.IndexFunc(notices.Items, func(n contract.Notice) bool { return n.Code == event.RoutineDone })
	if at < 0 || notices.Items[at].Count != int64(len(times)) || notices.Items[at].Says != times[len(times)-1].Says {
		t.Errorf("the notices: %+v", notices.Items)
	}
}

package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"varnet/core/finding"
	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestStates takes a run through all its states by the client, with the console
// open in two browsers: both see each change, and the same.
func TestStates(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	// Two browsers must have the time to see that the run waits.
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_ROUNDS=20s,2s,2s"))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	_, content := writeList(t, i.World, 700)
	l, err := api.Import(ctx, client.File{Name: "members.csv", Body: strings.NewReader(string(content))})
	if err != nil {
		t.Fatal(err)
	}
	d, err := api.DraftRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	if err != nil || d.Rows != 700 || d.Malformed+d.Hopeless+d.Ask != d.Addresses || d.Ask == 0 || d.Seconds <= 0 || d.From > d.Seconds || d.To < d.Seconds {
		t.Fatalf("%v: %+v", err, d)
	}
	if !strings.Contains(d.Sentence, "is expected to take") || !strings.Contains(d.Sentence, "What hosts put off is asked again after 20 seconds") {
		t.Error(d.Sentence)
	}
	tomorrow := time.Now().Add(24 * time.Hour)
	r, err := api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful", Times: contract.Times{BeginAt: &tomorrow}})
	if err != nil || r.State != "drafted" || !strings.HasPrefix(r.Sentence, "The run begins on ") {
		t.Fatalf("%v: %+v", err, r)
	}
	windows := []context.Context{window(t, s, r.ID), window(t, s, r.ID)}
	both := func(what string, act func() error, state string) {
		t.Helper()
		if err := act(); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		for n, w := range windows {
			if err := browser.Do(w, 60*time.Second, browser.Text(fmt.Sprintf("Run %d: %s", r.ID, state))); err != nil {
				t.Fatalf("%s: browser %d does not see that the run is %s: %v", what, n+1, state, err)
			}
		}
	}
	do := func(change func(context.Context, int64) (contract.Run, error)) func() error {
		return func() error { _, err := change(ctx, r.ID); return err }
	}
	both("drafted", func() error { return nil }, "drafted")
	both("begin", do(api.BeginRun), "running")
	if _, err := api.BeginRun(ctx, r.ID); status(err) != 409 {
		t.Errorf("a run that is running begins again: %v", err)
	}
	both("pause", do(api.PauseRun), "paused")
	settle(t, api, r.ID)
	same(t, windows)
	both("resume", do(api.ResumeRun), "running")
	waited(t, api, r.ID)
	both("hosts put some off", func() error { return nil }, "waiting")
	both("the rounds are over", func() error { _, err := api.Wait(ctx, r.ID, func(contract.Run) {}); return err }, "finished")
	same(t, windows)
	both("ask again, and pause that", func() error {
		if _, err := api.AskAgain(ctx, r.ID, contract.AskAgain{Findings: []finding.Finding{finding.Deliverable}}); err != nil {
			return err
		}
		_, err := api.PauseRun(ctx, r.ID)
		return err
	}, "paused")
	both("stop asking again", do(api.StopRun), "finished")
	same(t, windows)
	stopped(t, api, l.ID)
}

// window opens the page of a run in a browser of its own.
func window(t *testing.T, s *testkit.Service, run int64) context.Context {
	t.Helper()
	tab, stop, err := browser.Start(context.Background(), browser.Options{Width: 1280, Height: 800,
		Fault: func(what string) { t.Errorf("a script failed: %s", what) }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	if err := browser.Do(tab, 90*time.Second, browser.SignIn(s.URL), chromedp.Navigate(fmt.Sprintf("%s/runs/%d", s.URL, run))); err != nil {
		t.Fatal(err)
	}
	return tab
}

// same holds what two browsers show against each other, once both have it.
func same(t *testing.T, windows []context.Context) {
	t.Helper()
	var texts [2]string
	for range 160 {
		for n, w := range windows {
			if err := browser.Do(w, 20*time.Second, chromedp.Evaluate(`document.querySelector("main").innerText`, &texts[n])); err != nil {
				t.Fatal(err)
			}
		}
		if texts[0] == texts[1] {
			return
		}
		time.Sleep(250 * time.Millisecond)
	}
	t.Errorf("two browsers show\n%s\nand\n%s", texts[0], texts[1])
}

// waited waits until only postponed addresses are left.
func waited(t *testing.T, api *client.Client, id int64) {
	t.Helper()
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		r, err := api.Run(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if r.State == "waiting" {
			if len(r.Waits) == 0 || r.Waits[0].Addresses == 0 || r.Waits[0].Sentence == "" {
				t.Errorf("a run that waits says: %+v", r.Waits)
			}
			return
		}
	}
	t.Fatal("the run never waited")
}

// stopped starts a run and stops it: what is known stays.
func stopped(t *testing.T, api *client.Client, list int64) {
	t.Helper()
	r, err := api.StartRun(t.Context(), list, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	if err != nil {
		t.Fatal(err)
	}
	for r.Done == 0 || len(r.Waits) == 0 || r.ExpectedEnd == nil {
		if r, err = api.Run(t.Context(), r.ID); err != nil || r.FinishedAt != nil {
			t.Fatalf("%v: it ended without having waited for anybody", err)
		}
	}
	if e := r.ExpectedEnd; e.From.After(e.At) || e.To.Before(e.At) {
		t.Errorf("expected between %v and %v, at %v", e.From, e.To, e.At)
	}
	if _, err := api.StopRun(t.Context(), r.ID); err != nil {
		t.Fatal(err)
	}
	if r = settle(t, api, r.ID); r.State != "stopped" || r.Done == 0 || r.Open == 0 {
		t.Errorf("%+v", r)
	}
}

// TestTimes holds a run to its times: it begins when it is to, rests outside its
// hours and goes on by itself.
func TestTimes(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	_, content := writeList(t, i.World, 4000)
	l, err := api.Import(ctx, client.File{Name: "members.csv", Body: strings.NewReader(string(content))})
	if err != nil {
		t.Fatal(err)
	}
	for _, wrong := range []contract.Times{{Hours: "at night"}, {Hours: "22:00-06:00", Zone: "Fernhollow/Shed"}} {
		if _, err := api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful", Times: wrong}); status(err) != 422 {
			t.Errorf("%+v: %v", wrong, err)
		}
	}
	bounded := limited(t, api, l.ID)
	// The hours end with this minute and begin again with the next but one; the
	// run begins shortly before.
	now := time.Now().UTC()
	closes := now.Truncate(time.Minute).Add(time.Minute)
	if closes.Sub(now) < 10*time.Second {
		closes = closes.Add(time.Minute)
	}
	begin := closes.Add(-4 * time.Second)
	times := contract.Times{BeginAt: &begin, Hours: closes.Add(time.Minute).Format("15:04") + "-" + closes.Format("15:04")}
	r, err := api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful", Times: times})
	if err != nil || r.State != "drafted" {
		t.Fatalf("%v: %s", err, r.State)
	}
	seen := map[string]bool{}
	r, err = api.Wait(ctx, r.ID, func(r contract.Run) {
		now := time.Now()
		seen[r.State] = true
		switch {
		case r.State == "running" && now.Before(begin.Add(-time.Second)):
			t.Errorf("it runs at %v", now)
		case r.State == "paused" && (r.ResumeAt == nil || !r.ResumeAt.Equal(closes.Add(time.Minute)) || !strings.Contains(r.Sentence, "paused outside its hours and resumes ")):
			t.Errorf("paused: %s", r.Sentence)
		}
	})
	if err != nil || !seen["drafted"] || !seen["running"] || !seen["paused"] || r.State != "finished" || time.Now().Before(closes.Add(time.Minute)) {
		t.Errorf("%v: %s at %v, seen %v", err, r.State, time.Now(), seen)
	}
	bounded()
}

// limited starts a run with a limit, which is a minute; what it gives looks at it
// after that.
func limited(t *testing.T, api *client.Client, list int64) (look func()) {
	t.Helper()
	r, err := api.StartRun(t.Context(), list, contract.NewRun{Depth: "mailbox", Policy: "careful", Times: contract.Times{LimitMinutes: 1}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := api.PauseRun(t.Context(), r.ID); err != nil {
		t.Fatal(err)
	}
	return func() {
		t.Helper()
		r, err := api.Wait(t.Context(), r.ID, func(contract.Run) {})
		if err != nil || r.State != "stopped" || !strings.Contains(r.Sentence, "stopped at its limit of 1 minute") {
			t.Errorf("%v: %s", err, r.Sentence)
		}
	}
}

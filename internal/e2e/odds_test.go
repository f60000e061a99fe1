package e2e

import (
	"bytes"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"varnet/core/finding"
	"varnet/core/odds"
	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// mailed sends a message to each row that a run keeps or holds, imports what bounced by the truth, and
// returns the mailing, which is watched.
func mailed(t *testing.T, api *client.Client, w *practice.World, run int64, name string) contract.Mailing {
	t.Helper()
	m, err := api.RegisterMailing(t.Context(), contract.NewMailing{Name: name, RunID: run, Decisions: []string{"keep", "hold"}})
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, func() (bool, string) {
		if m, err = api.Mailing(t.Context(), m.ID); err != nil {
			t.Fatal(err)
		}
		return m.State == "watching", m.State
	})
	table := bytes.NewBufferString("address,outcome\n")
	for _, l := range posted(t, api, m) {
		if !w.Truth(practice.Canonical(l.To)).Deliverable() {
			fmt.Fprintf(table, "%s,bounced\n", l.To)
		}
	}
	if _, err := api.ImportOutcomes(t.Context(), map[string]int{"address": 1, "outcome": 2}, map[string]string{"bounced": "bounced"}, table); err != nil {
		t.Fatal(err)
	}
	return m
}

// TestOdds mails people at catch-all domains, learns from what came back, and holds the odds of other
// people there against the truth; no finding changes by it, and nothing of it is known elsewhere.
func TestOdds(t *testing.T) {
	t.Parallel()
	w, err := practice.GenerateHabits(7, 4)
	if err != nil {
		t.Fatal(err)
	}
	i, clock := testkit.Practise(t, w), newCalendar(t)
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file, "VARNET_REFERENCE=guild-1-01.example"))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	guild := func(api *client.Client, name string, rows int, which uint64) contract.Run {
		var file bytes.Buffer
		if err := w.WriteHabits(&file, rows, which, nil); err != nil {
			t.Fatal(err)
		}
		_, run := verifiedText(t, api, name, file.String())
		return run
	}
	first := guild(api, "first.csv", 1000, 1)
	if r := allResults(t, api, first.ID)[0]; r.Odds != 0.55 {
		t.Errorf("with nothing learnt: %+v", r)
	}
	mailed(t, api, w, first.ID, "First letter")
	clock.set(73 * time.Hour)
	var learnt contract.Odds
	eventually(t, 40*time.Second, func() (bool, string) {
		if learnt, err = api.Odds(ctx); err != nil {
			t.Fatal(err)
		}
		return learnt.Version == 1, learnt.Says
	})
	if learnt.Messages < 700 || !learnt.Judged.ByTable || len(learnt.Domains) != 32 || len(learnt.History) != 1 || len(learnt.History[0].Changes) < 3 {
		t.Errorf("%+v", learnt)
	}
	second := guild(api, "second.csv", 900, 2)
	results := allResults(t, api, second.ID)
	holdOdds(t, w, results)
	t.Run("what they are made of", func(t *testing.T) { holdFactors(t, api, second, results) })
	t.Run("another workspace", func(t *testing.T) {
		outsider := neighbours(t, s, "Upper Loam branch")
		for n, r := range allResults(t, outsider, guild(outsider, "second.csv", 900, 2).ID) {
			if mine := results[n]; r.Mailbox != mine.Mailbox || mine.Cause == finding.MailboxAnyAccepted && (r.Finding != mine.Finding || r.Cause != mine.Cause || r.Odds != 0.55 && r.Odds != 0.33) {
				t.Fatalf("%+v there, %+v here", r, mine)
			}
		}
		if o, err := outsider.Odds(ctx); err != nil || o.Version != 0 || len(o.Domains) != 0 || o.Judged.Messages != 0 {
			t.Errorf("%v: %+v", err, o)
		}
	})
	t.Run("columns of names", func(t *testing.T) {
		l, err := api.List(ctx, second.ListID)
		if err != nil {
			t.Fatal(err)
		}
		if m, err := api.ColumnMeanings(ctx, l.ID); err != nil || !m.Guessed || len(m.Meanings) != 2 || m.Meanings[0].Holds != "first-name" {
			t.Errorf("%v: %+v", err, m)
		}
		if _, err := api.SetColumnMeanings(ctx, l.ID, []contract.ColumnMeaning{{Column: "Joined", Holds: "opinion"}}); err == nil || !strings.Contains(err.Error(), "whose check found") {
			t.Errorf("%v", err)
		}
		if m, err := api.SetColumnMeanings(ctx, l.ID, nil); err != nil || m.Guessed || len(m.Meanings) != 0 {
			t.Errorf("%v: %+v", err, m)
		}
		eventually(t, 20*time.Second, func() (bool, string) { // without names, shapes are compared
			e, err := api.Evidence(ctx, second.ID, results[0].Ordinal)
			return err == nil && !strings.Contains(fmt.Sprint(e.Factors), "its name") && !strings.Contains(fmt.Sprint(e.Factors), "naming habit"), fmt.Sprint(err, e.Factors)
		})
	})
	t.Run("console", func(t *testing.T) {
		do := drive(t, browser.Options{})
		do("sign in", browser.SignIn(s.URL))
		do("the odds", chromedp.Navigate(s.URL+"/odds"), browser.Text("of the shipped table"), browser.Text("What counts beside domain and operator"), browser.Text("on average"))
		do("not shared", browser.Click("label.switch button"), browser.Text("count for nobody else"))
	})
}

// holdOdds holds odds against the truth, and against those of the table.
func holdOdds(t *testing.T, w *practice.World, results []contract.Result) {
	t.Helper()
	var learnt, table odds.Judged
	for _, r := range results {
		if r.Cause == finding.MailboxAnyAccepted {
			there := w.Truth(practice.Canonical(r.Mailbox)).Deliverable()
			learnt.Judge(r.Odds, there)
			table.Judge(finding.Odds(r.Finding, r.Cause, r.Traits), there)
		}
	}
	if learnt.Messages < 700 || learnt.Brier > 0.2 || learnt.Brier > table.Brier-0.05 || learnt.LogLoss > table.LogLoss {
		t.Errorf("of %d addresses: Brier score %.3f, of the table %.3f", learnt.Messages, learnt.Brier, table.Brier)
	}
}

// holdFactors: the product of what odds are made of is the odds, in words.
func holdFactors(t *testing.T, api *client.Client, run contract.Run, results []contract.Result) {
	said := map[string]bool{}
	for n := 0; n < len(results); n += 60 {
		e, err := api.Evidence(t.Context(), run.ID, results[n].Ordinal)
		if err != nil {
			t.Fatal(err)
		}
		p := 1.0
		for _, f := range e.Factors {
			p *= f.Times
			if f.What == "" || f.Basis == "" && f.Times > 0 {
				t.Errorf("%s: %+v", e.Mailbox, f)
			}
			for _, word := range []string{"fits the naming habit of", "not built from its name", "the domain", "the operator", "known at the time"} {
				said[word] = said[word] || strings.Contains(f.What, word)
			}
		}
		if math.Abs(p-e.Odds) > 0.006 {
			t.Errorf("%s: %v, and the product is %v of %+v", e.Mailbox, e.Odds, p, e.Factors)
		}
	}
	if !said["fits the naming habit of"] || !said["not built from its name"] || !said["the operator"] || said["known at the time"] {
		t.Errorf("said: %v", said)
	}
}

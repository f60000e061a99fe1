package e2e

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"varnet/core/finding"
	"varnet/core/opinion"
	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// TestOpinions has a list with columns of two other checks verified and mailed: words get meanings, the
// matrix and the rows are those that counting one by one finds, and outcomes say who was right.
func TestOpinions(t *testing.T) {
	t.Parallel()
	i, clock := testkit.World(t, "fernhollow"), newCalendar(t)
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	var file bytes.Buffer
	if err := i.World.WriteOpinions(&file, 300); err != nil {
		t.Fatal(err)
	}
	text := file.String()
	l, run := verifiedText(t, api, "guests.csv", text)
	again, err := api.Import(ctx, client.File{Name: "again.csv", Body: strings.NewReader(text), Holds: []string{"Seedcheck=opinion:Seedcheck", "Last order=activity:ordered"}})
	if err != nil {
		t.Fatal(err)
	}
	if m, err := api.ColumnMeanings(ctx, again.ID); err != nil || m.Guessed || len(m.Meanings) != 2 {
		t.Errorf("%v: %+v", err, m)
	}
	if _, err := api.Import(ctx, client.File{Name: "again.csv", Body: strings.NewReader(text), Holds: []string{"Nowhere=name"}}); err == nil || !strings.Contains(err.Error(), "no column") {
		t.Errorf("%v", err)
	}
	if o, err := api.Opinions(ctx, l.ID); err != nil || len(o.Checks) != 0 || !strings.Contains(o.Says, "No column") {
		t.Errorf("%v: %+v", err, o)
	}
	if _, err := api.SetColumnMeanings(ctx, l.ID, []contract.ColumnMeaning{{Column: "Name", Holds: "name"}, {Column: "Seedcheck", Holds: "opinion", Of: "Seedcheck"}, {Column: "Gatepost", Holds: "opinion", Of: "Gatepost"}, {Column: "Last order", Holds: "activity", Of: "ordered"}}); err != nil {
		t.Fatal(err)
	}
	o, err := api.Opinions(ctx, l.ID)
	if err != nil || len(o.Checks) != 2 || o.Checks[0].Open == 0 || len(o.Checks[0].Words) != 4 || o.Checks[0].Words[0].Known {
		t.Fatalf("%v: %+v", err, o)
	}
	if err := api.SetOpinionMeaning(ctx, "Seedcheck", map[string]string{"sound": "perfect"}); err == nil || !strings.Contains(err.Error(), "cannot mean") {
		t.Errorf("%v", err)
	}
	means := map[string]string{"Sound": "deliverable", "open house": "catch-all", "gone": "undeliverable", "no word": "undecided"}
	if err := api.SetOpinionMeaning(ctx, "Seedcheck", means); err != nil {
		t.Fatal(err)
	}
	mailed(t, api, i.World, run.ID, "Thanks")
	clock.set(73 * time.Hour)
	eventually(t, 40*time.Second, func() (bool, string) {
		if o, err = api.Opinions(ctx, l.ID); err != nil {
			t.Fatal(err)
		}
		return o.Checks[0].Judged.GoodArrived > 0, o.Checks[0].Judged.Says
	})
	t.Run("matrix", func(t *testing.T) { holdMatrix(t, api, l, run, text, o.Checks[0]) })
	t.Run("who was right", func(t *testing.T) {
		theirs, ours := o.Checks[0].Judged, o.Ours
		if theirs.BadArrived == 0 || ours.BadArrived != 0 || ours.GoodArrived == 0 || !strings.Contains(theirs.Says, "Seedcheck was right on") {
			t.Errorf("theirs %+v, ours %+v", theirs, ours)
		}
	})
	t.Run("a policy asks both", func(t *testing.T) {
		p := contract.Policy{Name: "both", Rules: []contract.PolicyRule{{Do: "keep", Findings: []finding.Finding{finding.Deliverable}, OpinionOf: "Seedcheck", Opinions: []finding.Finding{finding.Deliverable}}}, Otherwise: "drop"}
		if _, err := api.SavePolicy(ctx, p); err != nil {
			t.Fatal(err)
		}
		r, err := api.ChoosePolicy(ctx, run.ID, "both")
		if err != nil || r.Kept != cellOf(o.Checks[0], finding.Deliverable, finding.Deliverable) {
			t.Errorf("%v: %d kept, and the matrix has %d", err, r.Kept, cellOf(o.Checks[0], finding.Deliverable, finding.Deliverable))
		}
	})
	t.Run("activity", func(t *testing.T) { holdActivity(t, api, l, run, text) })
	t.Run("another workspace", func(t *testing.T) {
		outsider := neighbours(t, s, "Upper Loam branch")
		if _, err := outsider.Opinions(ctx, l.ID); err == nil {
			t.Error("it sees the checks of the list")
		}
		there := importedText(t, outsider, "guests.csv", text)
		if a, err := outsider.ListActivity(ctx, there.ID); err != nil || len(a.Kinds) != 0 {
			t.Errorf("%v: it knows of activity: %+v", err, a)
		}
	})
	t.Run("console", func(t *testing.T) {
		do := drive(t, browser.Options{})
		do("sign in", browser.SignIn(s.URL))
		do("the matrix", chromedp.Navigate(fmt.Sprintf("%s/lists/%d/opinions", s.URL, l.ID)), browser.Text("Who was right"), browser.Press("Rows on which they contradict each other"), browser.Text("Its word"), browser.Seen("table.rows button.plain"))
		do("words of the other", browser.Text("Suggested by the words themselves"))
		do("what columns hold", chromedp.Navigate(fmt.Sprintf("%s/lists/%d/meanings", s.URL, l.ID)), browser.Text("days on which something was seen"), browser.Press("Save"), browser.Text("Saved."))
		do("the chart", chromedp.Navigate(fmt.Sprintf("%s/lists/%d", s.URL, l.ID)), browser.Text("Last activity"), browser.Text("never seen"))
	})
}

func cellOf(c contract.OpinionCheck, theirs, ours finding.Finding) (n int64) {
	for _, cell := range c.Matrix {
		if cell.Theirs == theirs && cell.Ours == ours {
			n += cell.Rows
		}
	}
	return n
}

// rowsOf are the rows of a list with an address that stands in no earlier one, by the canonical form.
func rowsOf(t *testing.T, text string) map[string][]string {
	t.Helper()
	all, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	out := map[string][]string{}
	for _, row := range all[1:] {
		if c := practice.Canonical(row[2]); c != "" && out[c] == nil {
			out[c] = row
		}
	}
	return out
}

// holdMatrix counts one by one.
func holdMatrix(t *testing.T, api *client.Client, l contract.List, run contract.Run, text string, c contract.OpinionCheck) {
	m := opinion.Means{"sound": finding.Deliverable, "open house": finding.CatchAll, "gone": finding.Undeliverable, "no word": finding.Undecided}
	want, rows := opinion.Matrix{}, rowsOf(t, text)
	for _, r := range allResults(t, api, run.ID) {
		if row := rows[practice.Canonical(r.Mailbox)]; r.Mailbox != "" && row != nil {
			f, _ := m.Of(row[6])
			want.Add(f, r.Finding, 1)
		}
	}
	contradicting := int64(0)
	for k, n := range want {
		if got := cellOf(c, k[0], k[1]); k[0] != "" && k[1] != finding.Undeliverable && got != n {
			t.Errorf("%s and %s: %d rows, one by one %d", k[0], k[1], got, n)
		}
	}
	for _, cell := range c.Matrix {
		if opinion.Contradicts(cell.Theirs, cell.Ours) {
			contradicting += cell.Rows
		}
	}
	page, err := api.OpinionRows(t.Context(), l.ID, contract.OpinionQuery{OpinionFilter: contract.OpinionFilter{Check: "Seedcheck", Apart: "contradict"}})
	if err != nil || contradicting == 0 || int64(len(page.Items)) != contradicting {
		t.Fatalf("%v: %d rows contradict, and %d are listed", err, contradicting, len(page.Items))
	}
	for _, r := range page.Items {
		if !opinion.Contradicts(r.Theirs, r.Ours) || r.Title == "" || r.Word == "" {
			t.Errorf("%+v", r)
		}
	}
	if _, err := api.OpinionRows(t.Context(), l.ID, contract.OpinionQuery{OpinionFilter: contract.OpinionFilter{Check: "Nobody"}}); err == nil {
		t.Error("rows of a check that there is none of")
	}
}

// holdActivity: the days of a column and of a file of events, as chart, condition, column and slice.
func holdActivity(t *testing.T, api *client.Client, l contract.List, run contract.Run, text string) {
	ctx, rows := t.Context(), rowsOf(t, text)
	want := int64(0)
	var quiet []string
	for c, row := range rows {
		if row[8] != "" {
			want++
		} else if len(quiet) < 3 {
			quiet = append(quiet, c)
		}
	}
	seen := func() (n int64) {
		a, err := api.ListActivity(ctx, l.ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, k := range a.Kinds {
			if k.Kind == "ordered" || k.Kind == "opened" {
				n += k.Addresses
			}
		}
		return n
	}
	eventually(t, 20*time.Second, func() (bool, string) { n := seen(); return n >= want-5 && n > 20, fmt.Sprint(n, " of ", want) })
	before := seen()
	events := "E-mail,Event,Date\n"
	for _, c := range quiet {
		events += c + ",opened," + time.Now().Format(time.DateOnly) + "\n"
	}
	told, err := api.ImportActivity(ctx, client.ActivityFile{Name: "opened.csv"}, strings.NewReader(events+"no address,opened,2026-01-02\nada.moss@fernhollow.example,opened,3/4/2026\n"))
	if err != nil || told.Events != 5 || told.Later != 3 || told.NoAddress != 1 || told.NoDay != 1 {
		t.Errorf("%v: %+v", err, told)
	}
	if again, err := api.ImportActivity(ctx, client.ActivityFile{Name: "opened.csv"}, strings.NewReader(events)); err != nil || again.Later != 0 {
		t.Errorf("sent again: %v, %+v", err, again)
	}
	if n := seen(); n != before+3 {
		t.Errorf("%d were seen, and %d before", n, before)
	}
	p := contract.Policy{Name: "lively", Rules: []contract.PolicyRule{{Do: "keep", ActiveWithin: 30}, {Do: "hold", InactiveFor: 365}}, Otherwise: "drop"}
	if _, err := api.SavePolicy(ctx, p); err != nil {
		t.Fatal(err)
	}
	r, err := api.ChoosePolicy(ctx, run.ID, "lively")
	a, err2 := api.ListActivity(ctx, l.ID)
	if err != nil || err2 != nil || r.Kept != a.Steps[0].Addresses {
		t.Errorf("%v, %v: %d kept, %d active within 30 days", err, err2, r.Kept, a.Steps[0].Addresses)
	}
	var out bytes.Buffer
	if err := api.ExportFile(ctx, run.ID, contract.ExportChoice{Form: "results", Columns: []string{"lastActive", "activeDays", "activeStep", "activeFrom"}}, &out); err != nil || !strings.Contains(out.String(), "opened (opened.csv)") || !strings.Contains(out.String(), "30 days ago or less") {
		t.Errorf("%v: %s", err, out.String())
	}
	j, err := api.Made(ctx, contract.NewWorkshopJob{DryRun: true, WorkshopOrder: contract.WorkshopOrder{ListID: l.ID, Steps: []contract.WorkshopStep{{Do: "slice", Conditions: []contract.WorkshopCondition{{Fact: "active", Test: "last", Values: []string{"30"}}}}}}}, func(contract.WorkshopJob) {})
	if err != nil || j.Rows < a.Steps[0].Addresses {
		t.Errorf("%v: %+v", err, j)
	}
}

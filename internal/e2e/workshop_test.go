package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"varnet/core/workshop"
	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// importedText imports a list of lines.
func importedText(t *testing.T, api *client.Client, name, text string) contract.List {
	t.Helper()
	l, err := api.Import(t.Context(), client.File{Name: name + ".csv", Body: strings.NewReader(text)})
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// makeList makes a list, and tells of what it was made.
func makeList(t *testing.T, api *client.Client, n contract.NewWorkshopJob) (contract.WorkshopJob, contract.List) {
	t.Helper()
	j, err := api.Made(t.Context(), n, func(contract.WorkshopJob) {})
	if err != nil || j.State != "done" {
		t.Fatalf("%v: %+v", err, j)
	}
	if n.DryRun {
		return j, contract.List{}
	}
	l, err := api.List(t.Context(), j.ListIDs[0])
	if err != nil {
		t.Fatal(err)
	}
	return j, l
}

// TestWorkshop makes lists from lists by the API and the command line: what is known comes along,
// rows keep their bytes, and nothing of another workspace can be reached.
func TestWorkshop(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	header, lines, at := people(t, i.World, 120)
	text := func(lines []string) string { return header + strings.Join(lines, "") }
	members, run := verifiedText(t, api, "members", text(lines[:80]))
	guests := importedText(t, api, "guests", text(lines[60:]))
	var gone strings.Builder
	gone.WriteString("address\n")
	for _, line := range lines[:10] {
		fmt.Fprintln(&gone, strings.ToUpper(at[line]))
	}
	unsubscribed := importedText(t, api, "unsubscribed", gone.String())
	number := func(l contract.List) string { return fmt.Sprint(l.ID) }
	without := []contract.WorkshopStep{{Do: workshop.DoWithout, With: []string{number(unsubscribed)}}}

	dry, _ := makeList(t, api, contract.NewWorkshopJob{WorkshopOrder: contract.WorkshopOrder{ListID: members.ID, Steps: without}, DryRun: true})
	if dry.Rows != 70 || len(dry.First) != 10 || len(dry.ListIDs) != 0 || !strings.Contains(dry.Says, "without “unsubscribed.csv” by address: 70 of 80 rows.") {
		t.Errorf("a dry run: %+v", dry)
	}
	_, rest := makeList(t, api, contract.NewWorkshopJob{WorkshopOrder: contract.WorkshopOrder{ListID: members.ID, Steps: without, Name: "Rest"}})
	if rest.Name != "Rest" || rest.Rows != 70 || len(rest.MadeOf) != 2 || !strings.Contains(rest.MadeOf[1], "Without “unsubscribed.csv”") {
		t.Errorf("%+v", rest)
	}
	var file bytes.Buffer
	if err := api.WorkshopFile(ctx, contract.WorkshopOrder{ListID: members.ID, Steps: without}, "original", &file); err != nil || file.String() != text(lines[10:80]) {
		t.Errorf("%v: rows did not keep their bytes:\n%s", err, file.String())
	}

	// A slice by finding holds what the run found, as long as no other has found anything since.
	found := map[string]bool{}
	for _, r := range allResults(t, api, run.ID) {
		if r.Finding == "undeliverable" {
			found[strings.ToLower(r.Mailbox)] = true
		}
	}
	bad, _ := makeList(t, api, contract.NewWorkshopJob{WorkshopOrder: contract.WorkshopOrder{ListID: members.ID, Steps: []contract.WorkshopStep{{Do: workshop.DoSlice,
		Conditions: []contract.WorkshopCondition{{Fact: workshop.FactFinding, Test: workshop.Is, Values: []string{"undeliverable"}}, {Fact: workshop.FactChecked, Test: workshop.LastDays, Values: []string{"1"}}}}}}, DryRun: true})
	if bad.Rows != int64(len(found)) || bad.Rows == 0 {
		t.Errorf("%d rows are undeliverable, and the run found %d", bad.Rows, len(found))
	}

	// What is known comes along, and a run asks for the rest alone.
	_, both := makeList(t, api, contract.NewWorkshopJob{WorkshopOrder: contract.WorkshopOrder{ListID: rest.ID, Steps: []contract.WorkshopStep{{Do: workshop.DoMerge, With: []string{number(guests)}}}}})
	if both.Rows != 110 {
		t.Errorf("merged: %d rows", both.Rows)
	}
	known, err := api.ListKnown(ctx, both.ID)
	if err != nil || known.Addresses != 110 || known.Known != 70 || known.Findings[0].Week == 0 {
		t.Errorf("%v: %+v", err, known)
	}
	again := runOf(t, api, both.ID, contract.NewRun{Depth: "mailbox", Policy: "careful", ReuseDays: 30})
	if again.Reused < 50 || again.Reused > 70 {
		t.Errorf("%d results were reused of 70 known", again.Reused)
	}

	parts, _ := makeList(t, api, contract.NewWorkshopJob{WorkshopOrder: contract.WorkshopOrder{ListID: members.ID, Steps: []contract.WorkshopStep{}, Split: &contract.WorkshopSplit{Fact: workshop.FactFinding}, Name: "Parts"}})
	sum := int64(0)
	for n, id := range parts.ListIDs {
		l, err := api.List(ctx, id)
		if err != nil || l.Rows != parts.Parts[n].Rows {
			t.Errorf("%v: part %q has %d rows, not %d", err, parts.Parts[n].Value, l.Rows, parts.Parts[n].Rows)
		}
		sum += l.Rows
	}
	if sum != 80 || len(parts.ListIDs) < 3 {
		t.Errorf("%d parts with %d rows", len(parts.ListIDs), sum)
	}
	t.Run("looked at", func(t *testing.T) { holdLooks(t, api, members, at) })
	t.Run("command line", func(t *testing.T) { holdWorkshopCommands(t, s, api, members, unsubscribed, text(lines[10:80])) })
	t.Run("refused", func(t *testing.T) { holdWorkshopRefusals(t, s, api, members) })
}

// verifiedText imports a list and runs it to its end.
func verifiedText(t *testing.T, api *client.Client, name, text string) (contract.List, contract.Run) {
	t.Helper()
	l := importedText(t, api, name, text)
	return l, runOf(t, api, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
}

// holdLooks holds statistics and profile of a list against its rows.
func holdLooks(t *testing.T, api *client.Client, l contract.List, at map[string]string) {
	s, err := api.ListDomains(t.Context(), l.ID)
	if err != nil || s.Addresses != 80 || s.Domains == 0 || len(s.Largest) == 0 || len(s.Countries) == 0 || s.Unknown == s.Addresses {
		t.Errorf("%v: %+v", err, s)
	}
	for range 2 { // the second time it is remembered
		p, err := api.ListColumns(t.Context(), l.ID)
		if err != nil || len(p.Items) != len(l.Columns) || p.Items[2].Distinct != 80 || p.Items[2].Rows != 80 {
			t.Errorf("%v: %+v", err, p.Items)
		}
	}
}

// holdWorkshopCommands does the same by the command line, and with files alone.
func holdWorkshopCommands(t *testing.T, s *testkit.Service, api *client.Client, members, unsubscribed contract.List, want string) {
	folder := t.TempDir()
	call := func(args ...string) string {
		t.Helper()
		text, err := testkit.Command(s.Env, append([]string{"workshop"}, args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %v\n%s", args, err, text)
		}
		return string(text)
	}
	a, b := fmt.Sprint(members.ID), fmt.Sprint(unsubscribed.ID)
	out := filepath.Join(folder, "rest.csv")
	call("without", a, b, "-out", out)
	if made, err := os.ReadFile(out); err != nil || string(made) != want {
		t.Errorf("%v: the file is not that of the API", err)
	}
	if said := call("without", a, b, "-dry-run"); !strings.Contains(said, "70 of 80 rows.") || strings.Contains(said, "List ") {
		t.Errorf("a dry run says %s", said)
	}
	if said := call("without", a, b, "-name", "Rest again"); !strings.Contains(said, "List ") {
		t.Errorf("a list was not made: %s", said)
	}
	recipe, terms := filepath.Join(folder, "steps.json"), filepath.Join(folder, "terms.txt")
	steps, err := json.Marshal([]contract.WorkshopStep{{Do: workshop.DoWithout, With: []string{b}}, {Do: workshop.DoStrike, TermLists: []string{"people at home"}, How: workshop.AsDomain}})
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(recipe, steps, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(terms, []byte("fernhollow.example\n\n*.mossford.example\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	call("terms", "save", "people at home", terms)
	call("recipes", "save", "monthly", recipe)
	if said := call("recipes"); !strings.Contains(said, "without “unsubscribed.csv” by address; struck by the saved terms “people at home” as a domain") {
		t.Errorf("recipes: %s", said)
	}
	if said := call("terms"); !strings.Contains(said, "people at home  2") {
		t.Errorf("terms: %s", said)
	}
	said := call("follow", "monthly", a, "-dry-run", "-json")
	var j contract.WorkshopJob
	if err := json.Unmarshal([]byte(said), &j); err != nil || len(j.Steps) != 2 || j.Steps[1].Before != 70 || j.Steps[1].Rows >= 70 {
		t.Errorf("%v: %s", err, said)
	}
	for args, want := range map[string]string{"domains": "80 addresses at", "columns": "0 of 80", "known": "All 80 addresses are known from earlier runs: "} {
		if said := call(args, a); !strings.Contains(said, want) {
			t.Errorf("%s: %s", args, said)
		}
	}
}

// holdWorkshopRefusals: what cannot be is said with its step, and another workspace's lists are
// not there.
func holdWorkshopRefusals(t *testing.T, s *testkit.Service, api *client.Client, members contract.List) {
	other := client.New(s.URL, otherKey(t, s))
	step := func(s contract.WorkshopStep) contract.NewWorkshopJob {
		return contract.NewWorkshopJob{WorkshopOrder: contract.WorkshopOrder{ListID: members.ID, Steps: []contract.WorkshopStep{s}}}
	}
	if _, err := other.BeginWorkshopJob(t.Context(), step(contract.WorkshopStep{Do: workshop.DoDuplicates})); status(err) != 404 {
		t.Errorf("another workspace's list was taken: %v", err)
	}
	own := importedText(t, other, "own", "e-mail\nada@orchard.example\n")
	if _, err := other.BeginWorkshopJob(t.Context(), contract.NewWorkshopJob{WorkshopOrder: contract.WorkshopOrder{ListID: own.ID, Steps: []contract.WorkshopStep{{Do: workshop.DoMerge, With: []string{fmt.Sprint(members.ID)}}}}}); status(err) != 422 {
		t.Errorf("another workspace's list was merged: %v", err)
	}
	if _, err := other.SaveStepRecipe(t.Context(), contract.NewStepRecipe{Name: "peek", Steps: []contract.WorkshopStep{{Do: workshop.DoMerge, With: []string{fmt.Sprint(members.ID)}}}}); status(err) != 422 {
		t.Errorf("a recipe names another workspace's list: %v", err)
	}
	for want, s := range map[string]contract.WorkshopStep{"no column": {Do: workshop.DoSlice, Conditions: []contract.WorkshopCondition{{Column: "Shoe size", Test: workshop.Empty}}},
		"there is no list 99999": {Do: workshop.DoWithout, With: []string{"99999"}}, "no saved terms": {Do: workshop.DoStrike, TermLists: []string{"nowhere"}}, "not the number of a list": {Do: workshop.DoBoth, With: []string{"/etc/passwd"}}} {
		if _, err := api.BeginWorkshopJob(t.Context(), step(s)); status(err) != 422 || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), "Step 1") {
			t.Errorf("%+v: %v", s, err)
		}
	}
	j, err := api.Made(t.Context(), step(contract.WorkshopStep{Do: workshop.DoSlice, From: 1_000_000}), func(contract.WorkshopJob) {})
	if err != nil || j.State != "failed" || !strings.Contains(j.Says, "No row is left") || len(j.ListIDs) != 0 {
		t.Errorf("%v: %+v", err, j)
	}
	if _, err := api.SavePolicy(t.Context(), contract.Policy{Name: "by-terms", Rules: []contract.PolicyRule{{Do: "drop", TermLists: []string{"nowhere"}}}}); status(err) != 422 || !strings.Contains(err.Error(), "no saved terms") {
		t.Errorf("a policy names terms that there are not: %v", err)
	}
	jobs, err := api.WorkshopJobs(t.Context())
	if err != nil || len(jobs.Items) == 0 || slices.ContainsFunc(jobs.Items, func(j contract.WorkshopJob) bool { return j.DryRun }) {
		t.Errorf("%v: %+v", err, jobs)
	}
}

// otherKey is a key of another workspace.
func otherKey(t *testing.T, s *testkit.Service) string {
	t.Helper()
	key, err := testkit.Command(s.Env, "key", "new", "-workspace", "the neighbours").Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(key))
}

// TestRecipeInRoutine has a routine follow a recipe, on two nights with changed files: both the
// file that it reads and the list that the recipe leaves out are others on the second.
func TestRecipeInRoutine(t *testing.T) {
	t.Parallel()
	i, clock, folder := testkit.World(t, "fernhollow"), newCalendar(t), t.TempDir()
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file, "VARNET_ROUTINE_FOLDER="+folder))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	own := filepath.Join(folder, "1")
	if err := os.MkdirAll(own, 0o750); err != nil {
		t.Fatal(err)
	}
	header, lines, at := people(t, i.World, 90)
	put := func(lines []string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(own, "members.csv"), []byte(header+strings.Join(lines, "")), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	gone := func(lines []string) string {
		text := "address\n"
		for _, line := range lines {
			text += at[line] + "\n"
		}
		return text
	}
	unsubscribed := importedText(t, api, "unsubscribed", gone(lines[:5]))
	recipe, err := api.SaveStepRecipe(ctx, contract.NewStepRecipe{Name: "Monthly", Steps: []contract.WorkshopStep{{Do: workshop.DoWithout, With: []string{fmt.Sprint(unsubscribed.ID)}},
		{Do: workshop.DoTidy, Changes: []contract.WorkshopChange{{Do: workshop.DomainPart, To: "At"}}}}})
	if err != nil {
		t.Fatal(err)
	}
	put(lines[:60])
	spec := contract.RoutineSpec{Source: "folder", File: "mem*.csv", RecipeID: recipe.ID, RecipeName: recipe.Name, Rule: "FREQ=DAILY", Time: "03:00", Zone: "Europe/Berlin",
		Ages: map[string]int{"deliverable": 30, "catch-all": 30, "undeliverable": 90}, Policy: "careful", Then: "folder", ThenFile: "kept/{name}-{date}", Tell: "always"}
	r, err := api.MakeRoutine(ctx, contract.NewRoutine{Name: "Members", RoutineSpec: spec})
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(r.Says[0], "follows the recipe “Monthly”") {
		t.Errorf("it says %q", r.Says)
	}
	clock.until(*r.NextAt)
	first := ended(t, api, r.ID, 1)
	if rec := first.Record; first.State != "done" || rec.Rows != 55 || rec.Added != 55 || rec.SourceID == 0 || !strings.Contains(rec.Made, "55 of 60 rows.") || !strings.Contains(first.Says, "without “unsubscribed.csv”") {
		t.Fatalf("the first night: %s: %+v", first.State, first)
	}

	// Thirty more come, and three more unsubscribe.
	if _, err := api.Import(ctx, client.File{Name: "unsubscribed.csv", Again: unsubscribed.ID, Mode: "replace", Body: strings.NewReader(gone(lines[:8]))}); err != nil {
		t.Fatal(err)
	}
	put(lines)
	if r, err = api.Routine(ctx, r.ID); err != nil {
		t.Fatal(err)
	}
	clock.until(*r.NextAt)
	second := ended(t, api, r.ID, 2)
	if rec := second.Record; second.State != "done" || rec.Rows != 82 || rec.Added != 30 || rec.Gone != 3 || rec.Reused < 35 || !strings.Contains(rec.Made, "82 of 90 rows.") {
		t.Errorf("the second night: %s: %+v", second.State, second)
	}
	l, err := api.List(ctx, second.ListID)
	if err != nil || l.EarlierID != first.ListID || l.Columns[len(l.Columns)-1] != "At" && !strings.Contains(strings.Join(l.Columns, ","), "At") || len(l.MadeOf) != 3 {
		t.Errorf("%v: %+v", err, l)
	}
	written, err := os.ReadFile(filepath.Join(own, second.Record.Written))
	if err != nil || strings.Count(string(written), "\n") != int(second.Record.Kept)+1 {
		t.Errorf("%v: %d lines were written, of %d kept", err, strings.Count(string(written), "\n"), second.Record.Kept)
	}
	if err := api.DeleteStepRecipe(ctx, recipe.ID); err != nil {
		t.Fatal(err)
	}
	if r, err = api.Routine(ctx, r.ID); err != nil {
		t.Fatal(err)
	}
	clock.until(*r.NextAt)
	if third := ended(t, api, r.ID, 3); third.State != "failed" || !strings.Contains(third.Says, "was deleted") {
		t.Errorf("without its recipe: %+v", third)
	}
}

// TestWorkshopPage builds a sentence in the console: what it comes to follows, a list is made, its
// steps are saved and followed again, and a click on a domain leads to its rows.
func TestWorkshopPage(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	header, lines, at := people(t, i.World, 60)
	members := importedText(t, api, "members", header+strings.Join(lines, ""))
	gone := "address\n"
	for _, line := range lines[:7] {
		gone += at[line] + "\n"
	}
	importedText(t, api, "unsubscribed", gone)
	do := drive(t, browser.Options{Width: 1280, Height: 800})
	to := func(path string) chromedp.Action { return chromedp.Navigate(s.URL + path) }
	do("sign in", browser.SignIn(s.URL))
	do("from the lists to the workshop", browser.Press("Lists from lists"), browser.Text("Choose the list to begin with"))
	do("a list to begin with", pick("The list to begin with", "members.csv"), click("Do something with it"), browser.Text("Go on with the sentence"))
	do("without another", pick("Other lists", "unsubscribed.csv"), chromedp.KeyEvent(kb.Escape), browser.Text("without “unsubscribed.csv” by address: 53 of 60 rows."))
	do("and a place", click("Then"), pickIn("li.workshop-step", "What is done", "where"), click("condition 1"), browser.Fill("to row", "20"),
		browser.Text("20 rows are left of 60."))
	do("a reload loses nothing", chromedp.Reload(), browser.Text("20 rows are left of 60."))
	do("the steps are saved", click("Save the steps as a recipe"), fillNamed("Name of the recipe", "Twenty"), browser.Click(".workshop-save button"), browser.Text("Saved as a recipe"))
	do("the list is made", fillNamed("Name of the new list", "The first twenty"), click("Make the list"), browser.Text("Made of “members.csv”."), browser.Text("20 rows with 20 different addresses."))
	do("what its columns are like", browser.Click("details.paste summary"), browser.Seen("table.profile"), browser.Text("each value once"))
	do("a recipe is followed", to(fmt.Sprintf("/workshop?list=%d", members.ID)), browser.Text("Recipes of steps"), click("Follow"), browser.Text("20 rows are left of 60."))
	do("the domains lead to their rows", to(fmt.Sprintf("/lists/%d/domains", members.ID)), browser.Text("60 addresses at"), browser.Click("table.shares a"), browser.Text("where the domain is"))
	lists, err := api.Lists(t.Context(), contract.ListQuery{Search: "twenty"})
	if err != nil || len(lists.Items) != 1 || lists.Items[0].Rows != 20 {
		t.Errorf("%v: %+v", err, lists.Items)
	}
}

package e2e

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"varnet/core/policy"
	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestOverrides decides about addresses by an override: pages, counts and files follow,
// whatever the policy says, in every run of the list, and only there.
func TestOverrides(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	settings := testkit.Settings(testkit.Database(t), i)
	s := testkit.Serve(t, settings)
	api := client.New(s.URL, s.Key)
	list, run := verified(t, api, i.World, 300)
	before := allResults(t, api, run.ID)
	kept, dropped := of(before, policy.Keep), of(before, policy.Drop)
	struck, saved := kept[:3], dropped[0]
	for d, which := range map[policy.Decision][]contract.Result{policy.Drop: struck, policy.Keep: {saved}} {
		if done, err := api.Override(t.Context(), list.ID, contract.Override{Decision: d, Ordinals: numbers(which)}); err != nil || done.Addresses != int64(len(which)) {
			t.Fatalf("%s: %v: %+v", d, err, done)
		}
	}
	wanted := map[policy.Decision]int{policy.Keep: len(kept) - 2, policy.Drop: len(dropped) + 2}
	for d, n := range wanted {
		if got := pageOf(t, api, run.ID, url.Values{"decision": {string(d)}}); len(got) != n {
			t.Errorf("%d results with the decision %s; want %d", len(got), d, n)
		}
	}
	if found := pageOf(t, api, run.ID, url.Values{"overridden": {"true"}}); len(found) != 4 || !found[0].Overridden || !found[3].Overridden {
		t.Errorf("by an override were decided: %+v", found)
	}
	after, err := api.Run(t.Context(), run.ID)
	if err != nil || after.Kept != run.Kept-2 || !strings.Contains(after.ExportSentence, "3 overridden by a person") {
		t.Errorf("%v: %d of %d are kept: %s", err, after.Kept, run.Kept, after.ExportSentence)
	}
	file := fileOf(t, api, run.ID, contract.ExportChoice{Form: "addresses", Format: "txt"})
	for _, r := range struck {
		if strings.Contains(file, r.Mailbox+"\n") {
			t.Errorf("%s was struck and is in the file", r.Mailbox)
		}
	}
	if !strings.Contains(file, saved.Typed) {
		t.Errorf("%s was kept by an override and is not in the file", saved.Typed)
	}
	some := fileOf(t, api, run.ID, contract.ExportChoice{Decision: "all", Form: "addresses", Format: "txt", Ordinals: numbers(struck)})
	if strings.Count(some, "\n") != 3 {
		t.Errorf("three chosen addresses come out as %q", some)
	}
	command := testkit.Command(s.Env, "lists", "override", fmt.Sprint(list.ID), "hold", "nobody.at.all@"+kept[5].Domain, kept[5].Mailbox)
	if out, err := command.CombinedOutput(); err != nil || string(out) != "It was decided about 1 of 2 addresses.\n" {
		t.Errorf("%v: %s", err, out)
	}
	if _, err := api.Override(t.Context(), list.ID, contract.Override{Decision: "policy", Mailboxes: []string{kept[5].Mailbox}}); err != nil {
		t.Error(err)
	}
	remembered(t, api, list, run, struck[0])
	foreign(t, s, settings, api, list, struck[0])

	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("sign in", browser.SignIn(s.URL))
	do("what was decided by an override", chromedp.Navigate(s.URL+fmt.Sprintf("/runs/%d", run.ID)), browser.Press("overridden by a person"), browser.Text("overridden by a person."), browser.Text("overridden"))
	do("as the policy says", chromedp.Navigate(s.URL+fmt.Sprintf("/runs/%d/results?overridden=true", run.ID)), browser.Text("4 addresses match"), browser.Click(`input[aria-label="Choose all that are shown"]`), browser.Text("4 addresses chosen."), browser.Press("As the policy says"), browser.Text("No concluded address matches"))
	do("some are struck", chromedp.Navigate(s.URL+fmt.Sprintf("/runs/%d/results?finding=deliverable&oddsFrom=0.5", run.ID)), browser.Text("with odds of 50 in 100 or more"), browser.Click("tbody tr:nth-child(1) input"), browser.Click("tbody tr:nth-child(2) input"), browser.Text("2 addresses chosen."), browser.Press("○ Drop"), browser.Text("overridden"))
	do("what is chosen is taken out", browser.Click("tbody tr:nth-child(1) input"), browser.Press("Export the chosen"), browser.Text("All 1 row will be in the file."))
	do("what other runs found", chromedp.Navigate(s.URL+fmt.Sprintf("/runs/%d/results?address=%d", run.ID, struck[0].Ordinal)), browser.Text("What other runs found"), browser.Text("(run 2 of"))
	if end, err := api.Run(t.Context(), run.ID); err != nil || end.Kept != run.Kept-2 {
		t.Errorf("%v: %d of %d are kept", err, end.Kept, run.Kept)
	}
}

// remembered holds that decisions go along with the list, and that the evidence
// tells what other runs found.
func remembered(t *testing.T, api *client.Client, list contract.List, run contract.Run, r contract.Result) {
	t.Helper()
	next, err := api.StartRun(t.Context(), list.ID, contract.NewRun{Depth: "domain", Policy: "strict"})
	if err == nil {
		next, err = api.Wait(t.Context(), next.ID, func(contract.Run) {})
	}
	if err != nil {
		t.Fatal(err)
	}
	e, err := api.Evidence(t.Context(), next.ID, r.Ordinal)
	if err != nil || e.Decision != policy.Drop || !e.Overridden {
		t.Errorf("%v: in the next run it is %s, by an override: %v", err, e.Decision, e.Overridden)
	}
	if len(e.History) != 1 || e.History[0].RunID != run.ID || e.History[0].Finding != r.Finding {
		t.Errorf("what other runs found: %+v", e.History)
	}
}

// foreign holds that nobody decides about another workspace's list, nor about
// addresses that are not in it.
func foreign(t *testing.T, s *testkit.Service, settings []string, api *client.Client, list contract.List, r contract.Result) {
	t.Helper()
	key, err := testkit.Command(settings, "key", "new", "-workspace", "the neighbours").Output()
	if err != nil {
		t.Fatal(err)
	}
	theirs := client.New(s.URL, strings.TrimSpace(string(key)))
	if _, err := theirs.Override(t.Context(), list.ID, contract.Override{Decision: policy.Keep, Ordinals: []int32{r.Ordinal}}); status(err) != http.StatusNotFound {
		t.Errorf("another workspace decides: %v", err)
	}
	yes := true
	if _, err := theirs.ChangeList(t.Context(), list.ID, contract.ListChange{Archived: &yes}); status(err) != http.StatusNotFound {
		t.Errorf("another workspace puts it aside: %v", err)
	}
	if _, err := api.Override(t.Context(), list.ID, contract.Override{Decision: policy.Keep, Ordinals: []int32{99_999}}); status(err) != http.StatusUnprocessableEntity {
		t.Errorf("an address that is not there: %v", err)
	}
	if e, err := theirs.TryCatalogue(t.Context(), contract.CatalogueEntry{Kind: "disposable", Name: r.Domain}); err != nil || len(e.Lists) != 0 {
		t.Errorf("%v: another workspace's entry is told of %v", err, e.Lists)
	}
}

func of(all []contract.Result, d policy.Decision) (out []contract.Result) {
	for _, r := range all {
		if r.Decision == d {
			out = append(out, r)
		}
	}
	return out
}

func numbers(of []contract.Result) (out []int32) {
	for _, r := range of {
		out = append(out, r.Ordinal)
	}
	return out
}

func pageOf(t *testing.T, api *client.Client, run int64, filter url.Values) []contract.Result {
	t.Helper()
	got, err := api.AllResults(t.Context(), run, filter)
	if err != nil {
		t.Fatal(err)
	}
	return got
}

func fileOf(t *testing.T, api *client.Client, run int64, how contract.ExportChoice) string {
	t.Helper()
	var out bytes.Buffer
	if err := api.ExportFile(t.Context(), run, how, &out); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

// TestKeyboardAlone goes the whole path from text to file by nothing but keys,
// with a list that means no good: 300 columns, cells of 10,000 characters,
// markup, letters that turn the line around, and letters that cannot be seen.
func TestKeyboardAlone(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	downloads := t.TempDir()
	do := drive(t, browser.Options{Width: 1280, Height: 800, Downloads: downloads})
	do("sign in", chromedp.Navigate(s.URL+"/sign-in"), browser.Wait(`document.activeElement.labels?.[0]?.innerText === "Address"`), chromedp.KeyEvent(testkit.Person+"\t"+testkit.Password+"\r"), browser.Text("There is no list yet"))
	do("to bring a list in", tabTo("Import a list"), chromedp.KeyEvent("\r"), browser.Text("Or paste text"))
	do("paste", tabTo("Or paste text"), chromedp.KeyEvent("\r"), tabTo("Text with addresses in it"), pasted(hostile(i.World.Operators[0].Domains[0])), tabTo("Look at it"), chromedp.KeyEvent("\r"), browser.Text("300 columns"))
	do("bring in", tabTo("Import"), chromedp.KeyEvent("\r"), browser.Text("3 rows with "))
	do("the rows", tabTo("Look at the rows"), chromedp.KeyEvent("\r"), browser.Text("Rows 1 to"), browser.Text("<img src=x onerror=alert(1)>"), browser.Text("⟨U+202E⟩"), browser.Text("⟨U+200B⟩"))
	do("back to the list", tabTo("pasted"), chromedp.KeyEvent("\r"), browser.Text("Start the run"))
	do("start", tabTo("Start the run"), chromedp.KeyEvent("\r"), browser.Text(": finished"))
	do("results", tabTo("See the results"), chromedp.KeyEvent("\r"), browser.Text("Arrow keys walk"))
	do("search", keys("/", false), chromedp.KeyEvent("here"), browser.Text("with “here” in the address"), browser.Text("1 address matches"))
	do("all again", tabTo("Show all"), chromedp.KeyEvent("\r"), browser.Text("2 addresses, all that are concluded."))
	do("evidence", tabTo("Choose here"), chromedp.KeyEvent("\t"), chromedp.KeyEvent("\r"), browser.Text("In the file"))
	do("close it", chromedp.KeyEvent("\u001b"), browser.Gone(".ant-drawer-open"))
	do("choose one and keep it", tabTo("Choose here"), chromedp.KeyEvent(" "), browser.Text("1 address chosen."), tabTo("● Keep"), chromedp.KeyEvent("\r"), browser.Text("overridden"))
	do("take out", chromedp.Evaluate("scrollTo(0,0)", nil), tabTo("Run 1"), chromedp.KeyEvent("\r"), tabTo("Export the kept rows"), chromedp.KeyEvent("\r"), browser.Text("Write 1 row"))
	do("write", tabTo("Write 1 row"), chromedp.KeyEvent("\r"))
	if got, lines := string(waitForFile(t, filepath.Join(downloads, "pasted-keep.txt"))), strings.SplitAfter(hostile(i.World.Operators[0].Domains[0]), "\n"); got != lines[0]+lines[1] {
		t.Errorf("the file has %d bytes of %d, or others", len(got), len(lines[0]+lines[1]))
	}
}

// hostile is a list of 300 columns whose cells mean no good. Each row has three long ones: a
// megabyte is typed into a page in seconds, and in a minute beside other tests.
func hostile(domain string) string {
	cells := []string{`<img src=x onerror=alert(1)>`, "\u202egnp.exe", "zero\u200bwidth", strings.Repeat("W", 10_000), `</script><script>alert(2)</script>`, "=HYPERLINK(\"x\")", "\u2066turned\u2069", "{{7*7}}"}
	row := func(address string, n int) string {
		out := []string{address}
		for i := 1; i < 300; i++ {
			cell := cells[(i+n)%len(cells)]
			if i > 3*len(cells) {
				cell = cell[:min(len(cell), 40)]
			}
			out = append(out, `"`+strings.ReplaceAll(cell, `"`, `""`)+`"`)
		}
		return strings.Join(out, ",") + "\n"
	}
	head := []string{"E-mail"}
	for i := 1; i < 300; i++ {
		head = append(head, fmt.Sprintf(`"<b>%d</b> %s"`, i, strings.Trim(cells[i%2], `"`)))
	}
	return strings.Join(head, ",") + "\n" + row("here@"+domain, 0) + row("turned<b>\u202e@"+domain, 1) + row("", 2)
}

// tabTo presses the tab key until what has the text, label or selector has the
// focus, which must be seen.
func tabTo(what string) chromedp.Action {
	is := fmt.Sprintf(`(e => [e.getAttribute("aria-label"), e.innerText].some(t => t?.trim().startsWith(%[1]q)) || %[1]q.startsWith("#") && "#" + e.id === %[1]q)`, what)
	there := fmt.Sprintf(`[...document.querySelectorAll("a, button:enabled, input, textarea, summary")].some(%s)`, is)
	at := fmt.Sprintf(`%s(document.activeElement) && (document.activeElement.matches(":focus-visible") ? "seen" : "hidden")`, is)
	return chromedp.ActionFunc(func(ctx context.Context) error {
		if err := browser.Wait(there).Do(ctx); err != nil {
			return fmt.Errorf("there is no %q: %w", what, err)
		}
		for range 400 {
			var focus any
			if err := (chromedp.Tasks{chromedp.KeyEvent("\t"), chromedp.Evaluate(at, &focus)}).Do(ctx); err != nil {
				return err
			}
			if focus == "seen" {
				return nil
			}
		}
		return fmt.Errorf("the tab key does not lead to %q", what)
	})
}

// pasted puts a text where the cursor is, as the clipboard does.
func pasted(text string) chromedp.Action {
	return chromedp.Evaluate(fmt.Sprintf("document.execCommand('insertText', false, %q)", text), nil)
}

package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
	"varnet/internal/testkit"
)

// dropped hands a file to the page as though it had been dropped there.
func dropped(name string, content []byte) chromedp.Action {
	text, _ := json.Marshal(string(content))
	return chromedp.Evaluate(fmt.Sprintf(`(() => {
		const data = new DataTransfer();
		data.items.add(new File([%s], %q, {type: "text/csv"}));
		document.querySelector(".drop-zone").dispatchEvent(new DragEvent("drop", {dataTransfer: data, bubbles: true, cancelable: true}));
	})()`, text, name), nil)
}

// TestConsole drives the whole path in a real browser: sign in, drop a file,
// start, reload in the middle, finish, look at evidence, exports, and compares
// the file. Every page is held to the accessibility rules and to its width.
func TestConsole(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	_, content := writeList(t, i.World, rows)
	downloads := t.TempDir()
	do := drive(t, browser.Options{Width: 1280, Height: 800, Downloads: downloads})

	do("another page leads to signing in", chromedp.Navigate(s.URL+"/lists"), browser.Seen("input[type=password]"))
	do("a wrong password is told so", browser.Fill("Address", testkit.Person), browser.Fill("Password", "quince and apple\r"), browser.Text("The address or the password is wrong"))
	do("sign in", browser.SignIn(s.URL))
	do("no lists yet", browser.Text("There is no list yet"), browser.Text("First steps"), browser.Seen(".guide li:nth-child(2)[aria-current=step]"))
	do("a file that is none", browser.Press("Import a list"), browser.Seen(".drop-zone"), dropped("photo.csv", []byte("a\x00b")), browser.Text("this is not a text file"))
	do("pasted text", browser.Click(".paste summary"), browser.Type(".paste textarea", "Dear Ada, write to wren.quince@postbarn.example or to ada@mailmeadow.example."), browser.Press("Look at it"), browser.Text("A text from which the addresses are drawn"), browser.Text("wren.quince@postbarn.example"))
	do("a workbook", browser.Upload("input[type=file]", filepath.Join(testkit.Root(), "internal/format/testdata/corpus/workbook.xlsx")), browser.Text("An XLSX spreadsheet, sheet “Members” of 2"), browser.Text("the younger"))
	do("drop", dropped("members.csv", content), browser.Text("The addresses are in column 3, “E-mail”."))
	do("bring in", browser.Press("Import"), browser.Text("1,200 rows with "))
	do("start", browser.Press("Start the run"), browser.Text("In the last minute"))
	do("a reload loses nothing", chromedp.Reload(), browser.Text("In the last minute"))
	do("the browser is elsewhere meanwhile", chromedp.Navigate("about:blank"), chromedp.Sleep(time.Second), chromedp.Navigate(s.URL+"/runs/1"), browser.Text("Run 1"))
	do("finish", browser.Text(": finished"), browser.Text("of 1,200 rows will be kept"))
	do("results of a band", chromedp.Evaluate(`document.querySelector(".flow path.drop").dispatchEvent(new MouseEvent("click", {bubbles: true}))`, nil), browser.Text("concluded at the stage"))
	do("all results", browser.Press("Show all"), chromedp.Navigate(s.URL+"/runs/1/results?cause=mailbox.absent"), browser.Text("Mailbox does not exist"), browser.Seen("tbody button"))
	do("evidence by keyboard", chromedp.Evaluate(`document.querySelector("tbody button").focus()`, nil), chromedp.KeyEvent("\r"), browser.Text("550 5.1.1"), browser.Text("made-up mailboxes"))
	do("evidence has a URL", chromedp.Reload(), browser.Text("550 5.1.1"))
	do("take out", chromedp.Navigate(s.URL+"/runs/1/export"), browser.Text("of 1,200 rows will be kept"), browser.Press("Write"))

	do("the first steps are over", chromedp.Navigate(s.URL+"/lists"), browser.Text("members"), browser.Gone(".guide"))
	kept := waitForFile(t, filepath.Join(downloads, "members-keep.csv"))
	if n := checkKept(t, i.World, content, kept); n < 500 {
		t.Errorf("only %d rows were kept", n)
	}
	do("a policy of one's own", chromedp.Navigate(s.URL+"/policies/new?from=reach-further&run=1"), browser.Text("rows will be kept"),
		browser.Type(`input[placeholder^="small letters"]`, "open-house"), browser.ClickOn(`[...document.querySelectorAll("li button")].find(b => b.textContent.startsWith("Remove") && b.closest("li").textContent.includes("role addresses"))`),
		without("role addresses"), browser.Press("Save"), browser.Text("Decided by open-house"))
	do("with result columns", chromedp.Navigate(s.URL+"/runs/1/export?form=results&columns=finding,odds,host&policy=open-house"), browser.Text("Preview of the file"), browser.Text("mx1.postbarn.example"))
	do("policies", chromedp.Navigate(s.URL+"/policies"), browser.Text("your own, version 1"))
	do("the list", chromedp.Navigate(s.URL+"/lists/1"), browser.Text("It is kept until"), browser.Press("Estimate first"), browser.Text("This is estimated from a sample of 400"))
	do("bring it in again", chromedp.Navigate(s.URL+"/import?for=1"), browser.Text("Import a newer file"), dropped("more.csv", []byte("E-mail,Name\nada@upperloam.example,=1+1\n")), browser.Text("2 columns separated by commas"),
		browser.Press("Import"), browser.Text("The newer file added 1 row and changed 0 rows."))
	do("lists", chromedp.Navigate(s.URL+"/lists"), browser.Text("1,201"))
	do("outbound", chromedp.Navigate(s.URL+"/outbound"), browser.Text("Outbound: ready"))
	do("a dead route", browser.Type(`textarea[aria-label^="More routes"]`, "socks5://127.0.0.1:9"), browser.Click(`section[aria-label="Routes"] form button`), browser.Text("cannot be reached"), browser.Text("ready with reservations"))
	do("it is removed", browser.Press("Remove the one that failed"), browser.Text("Outbound: ready"), without("socks5://127.0.0.1:9"))
	do("a rule", browser.Type(`input[aria-label="Pattern"]`, "*.test"), browser.Press("Add the rule"), browser.Text("Addresses at *.test are never asked about."))
	do("try it", browser.Type(`input[aria-label="An address to try the rules on"]`, "ada@alder.test"), browser.Press("Try"), browser.Text("Rule 1 matches ada@alder.test"))
	do("sign out", browser.Press("Sign out"), browser.Seen("input[type=password]"))
}

// drive starts a browser; do takes steps in it, and holds the page that they lead
// to to what holds for every page.
func drive(t *testing.T, o browser.Options) (do func(what string, steps ...chromedp.Action)) {
	t.Helper()
	o.Fault = func(what string) { t.Errorf("a script failed: %s", what) }
	tab, stop, err := browser.Start(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	return func(what string, steps ...chromedp.Action) {
		t.Helper()
		if err := browser.Do(tab, 40*time.Second, steps...); err != nil {
			var page string
			_ = browser.Do(tab, 5*time.Second, chromedp.Evaluate("document.body.innerText", &page))
			t.Fatalf("%s: %v\nthe page says:\n%s", what, err, page)
		}
		if o.Width > narrow { // what is on a page is the same on a narrow screen
			accessible(t, tab, what)
		}
		laidOut(t, tab, what)
	}
}

// narrow is up to which width a screen is a phone's.
const narrow = 500

// accessible holds the page to the accessibility rules (axe-core: nothing serious).
func accessible(t *testing.T, tab context.Context, what string) {
	t.Helper()
	axe, err := os.ReadFile(filepath.Join(testkit.Root(), "web/node_modules/axe-core/axe.min.js"))
	if err != nil {
		t.Fatal(err)
	}
	var faults []string
	look := func() error {
		return browser.Do(tab, 2*time.Minute,
			chromedp.ActionFunc(atRest),
			chromedp.ActionFunc(func(ctx context.Context) error {
				var there bool
				if err := chromedp.Evaluate("typeof axe === 'object'", &there).Do(ctx); err != nil || there {
					return err
				}
				return chromedp.Evaluate(string(axe)+"\n;0", nil).Do(ctx)
			}),
			chromedp.Evaluate(`axe.run({resultTypes: ["violations"]}).then(r => r.violations.filter(v => v.impact === "serious" || v.impact === "critical")
			.map(v => v.id + ": " + v.nodes.map(n => n.target + " " + n.failureSummary).join("; ")))`, &faults, browser.Awaited))
	}
	err = look()
	for range 3 { // the browser may be on its way to another page, or a button at work again, and pale; a fault stays
		if err == nil && len(faults) == 0 || err != nil && !strings.Contains(err.Error(), "axe is not defined") {
			break
		}
		err = look()
	}
	if err != nil {
		t.Fatalf("%s: %v", what, err)
	}
	for _, f := range faults {
		t.Errorf("%s: %s", what, f)
	}
}

// atRest waits, for a while, until no button is at work any more and none comes to: it is pale
// while it is, and for a moment after.
func atRest(ctx context.Context) error {
	for range 200 {
		var busy bool
		if err := chromedp.Evaluate(`!!document.querySelector(".ant-btn-loading") || document.getAnimations().some(a => a instanceof CSSTransition && a.playState === "running")`, &busy).Do(ctx); err != nil || !busy {
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
	return nil
}

// laidOut holds the page to its layout: it never scrolls sideways, its headings skip no level,
// and what is touched is large enough.
func laidOut(t *testing.T, tab context.Context, what string) {
	t.Helper()
	var f browser.Faults
	if err := browser.Do(tab, time.Minute, browser.FaultsOf(&f)); err != nil {
		t.Fatalf("%s: %v", what, err)
	}
	if f.Any() {
		t.Errorf("%s: %s", what, f)
	}
}

func waitForFile(t *testing.T, path string) []byte {
	t.Helper()
	var last []byte
	for range 1200 {
		b, err := os.ReadFile(path)
		if err == nil && len(b) > 0 && bytes.Equal(b, last) {
			return b
		}
		last = b
		time.Sleep(100 * time.Millisecond)
	}
	found, _ := os.ReadDir(filepath.Dir(path))
	var names []string
	for _, f := range found {
		names = append(names, f.Name())
	}
	t.Fatalf("no file %s was saved; there is: %s", path, strings.Join(names, ", "))
	return nil
}

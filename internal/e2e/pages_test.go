package e2e

import (
	"context"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestPages takes each page that stands beside the main path through its main
// act, and looks at all of them on a narrow screen.
func TestPages(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	_, content := writeList(t, i.World, rows)
	run := start(t, api, content)
	for range 2 { // two runs, to be compared
		if _, err := api.Wait(t.Context(), run.ID, func(contract.Run) {}); err != nil {
			t.Fatal(err)
		}
		next, err := api.StartRun(t.Context(), run.ListID, contract.NewRun{Depth: "domain", Policy: "careful"})
		if err != nil {
			t.Fatal(err)
		}
		run = next
	}
	compared(t, api, run)
	asked(t, api, run.ID-2)
	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("sign in", browser.SignIn(s.URL))
	do("what is next, until it is hidden", browser.Seen(".guide li:nth-child(4)[aria-current=step]"), browser.Press("Hide these steps"), browser.Gone(".guide"), chromedp.Reload(), browser.Text("members"), browser.Gone(".guide"))
	do("check one", browser.Press("Check"), browser.Type(`input[aria-label="Address"]`, "ada.moss@longgone.example\r"), browser.Text("Domain does not exist"), browser.Text("not reached"))
	do("its place can be passed on", chromedp.Reload(), browser.Text("Typed"), browser.Text("Domain does not exist"))
	do("catalogues", browser.Press("Setup"), browser.Press("Catalogues"), browser.Type(`textarea[aria-label="Names"]`, "tenminutes.example\nquickpost.example"), browser.Press("Add 2 entries"), browser.Text("2 entries of your own"))
	do("an entry is removed", click("quickpost.example"), browser.Text("1 entry of your own"))
	do("an entry that is none", browser.Type(`textarea[aria-label="Names"]`, "@@"), browser.Press("Add"), browser.Seen("[role=alert]"))
	do("glossary", browser.Press("Setup"), browser.Press("Glossary"), browser.Type("#search", "greylist"), browser.Text("1 of 32 match"), browser.Text("exchanger.postponed"))
	do("keys", browser.Press("Setup"), browser.Press("Keys"), browser.Type(`input[aria-label="What the key is for"]`, "the web form"), browser.Press("Make a key"), browser.Text("shown only now"))
	do("a key is taken back", click("Take it back: the web form"), without("the web form"))
	do("domains", chromedp.Navigate(s.URL+"/runs/1/domains"), browser.Text("postbarn.example"), browser.Type("#search", "sundial"), browser.Text("1 domain, the largest first"), browser.Text("proves nothing"))
	do("a domain's results", browser.Press("sundial-nursery.example"), browser.Text("catch-all"))
	do("one address asked again", chromedp.Navigate(s.URL+"/runs/1/results?finding=deliverable"), browser.Text("Arrow keys walk"), browser.Click("tbody button"), browser.Press("Ask again now"), browser.Text("It is being asked again"))
	do("the list's runs", chromedp.Navigate(s.URL+"/lists/1"), browser.Text("Its runs"), browser.Press("What changed since run 1"), browser.Text("changed from run 1 to run 2"))
	do("the rows", chromedp.Navigate(s.URL+"/lists/1/rows"), browser.Text("Rows 1 to"), browser.Text("FS-00001"))
	do("the rows in another order, to the end", click("Name"), browser.Text("Name ↑"), click("Name"), browser.Text("Name ↓"), scrolledTo("to 1,200 of 1,200"))
	do("what an entry would alter", browser.Press("Setup"), browser.Press("Catalogues"), browser.Type(`textarea[aria-label="Names"]`, "postbarn.example"), browser.Press("See what that would alter"), browser.Text("would be told otherwise"))
	do("health", browser.Press("Setup"), browser.Press("Workers and health"), browser.Text("1 worker with 200 lanes is at work."), browser.Text("direct"))
	do("a list is put aside", chromedp.Navigate(s.URL+"/lists"), click("Archive"), browser.Text("There is no list yet"), browser.Press("Archived lists"), click("Unarchive"), browser.Text("No list is archived"))
	do("anywhere by keyboard", keys("k", true), browser.Seen(`input[aria-label="Where to"]`), browser.Type(`input[aria-label="Where to"]`, "polic\r"), browser.Text("careful"))
	do("what the keyboard can do", keys("?", false), browser.Text("open the evidence"))
	do("lists by name", chromedp.Navigate(s.URL+"/lists"), browser.Text("members"))
	do("a file dropped on the lists", onPage("more.csv", "E-mail\nada@upperloam.example\n"), browser.Text("The addresses are in"))
	do("a list is not deleted by mistake", chromedp.Navigate(s.URL+"/lists"), click("Delete"), browser.Text("with all its runs"), browser.Press("Keep it"), browser.Gone(".ant-modal"))

	phone := drive(t, browser.Options{Width: 390, Height: 844})
	phone("sign in, narrow", browser.SignIn(s.URL))
	for _, page := range []string{"/lists", "/import", "/lists/1", "/lists/1/rows", "/lists/1/domains", "/lists/1/meanings", "/lists/1/opinions", "/odds", "/workshop", "/workshop?list=1", "/runs/1", "/runs/1/results", "/runs/1/domains", "/runs/2/compare/1", "/runs/1/export",
		"/usage", "/purchases", "/accounts", "/policies", "/policies/new?from=strict&run=1", "/outbound", "/check#ada%40fernhollow.example", "/catalogues", "/glossary", "/keys", "/routines", "/routines/new", "/connections", "/connections/new", "/connections/signed-in", "/runs/1/write-back", "/bounces", "/bounces/sources", "/bounces/table", "/trial-letters", "/runs/1/settle", "/webhooks", "/notices", "/notices/letters", "/letters", "/health", "/person", "/team", "/requests", "/audit", "/rules", "/installation", "/device?code=BCDF-GHJK", "/lists?archived=true", "/setup"} {
		var twice []string
		phone(page+", narrow", chromedp.Navigate(s.URL+page), browser.Seen("h1"), chromedp.Sleep(300*time.Millisecond), chromedp.Evaluate(askedTwice, &twice))
		if len(twice) > 0 {
			t.Errorf("%s asks in vain, or more than once, for %s", page, twice)
		}
	}
	do("a list is deleted", chromedp.Navigate(s.URL+"/lists"), click("Delete"), browser.Press("Delete it for good"), browser.Text("There is no list yet"))
	do("what is gone shows the way to what is not", chromedp.Navigate(s.URL+"/runs/1"), browser.Text("There is no such record"), browser.Press("Go to the lists"), browser.Text("There is no list yet"))
}

// askedTwice are the calls that a page made more than once, whatever their query, and those of no use: what is asked for early must be what the page
// reads. What a form lacks yet, or is not signed in to, may be refused.
const askedTwice = `(() => {
	const calls = performance.getEntriesByType("resource").filter(e => e.name.includes("/api/v1/"));
	const paths = calls.map(e => new URL(e.name).pathname);
	return paths.filter((p, i) => paths.indexOf(p) !== i || calls[i].responseStatus >= 400 && !/\/(draft|signed-in)$/.test(p));
})()`

// click clicks the button that holds a text, seen or said to those who cannot see,
// as soon as it is there and enabled.
func click(text string) chromedp.Action {
	return browser.ClickOn(fmt.Sprintf(`[...document.querySelectorAll("button")].find(b => b.textContent.includes(%q) && !b.disabled)`, text))
}

// without waits until no name on the page is the text.
func without(text string) chromedp.Action {
	return browser.Wait(fmt.Sprintf(`![...document.querySelectorAll("bdi, button")].some(e => e.textContent.trim() === %q)`, text))
}

// keys presses a key on the page itself.
func keys(key string, ctrl bool) chromedp.Action {
	return chromedp.Evaluate(fmt.Sprintf(`document.activeElement?.blur(); document.dispatchEvent(new KeyboardEvent("keydown", {key: %q, ctrlKey: %v, bubbles: true}))`, key, ctrl), nil)
}

// onPage drops a file on the page, wherever.
func onPage(name, content string) chromedp.Action {
	return chromedp.Evaluate(fmt.Sprintf(`(() => {
		const data = new DataTransfer();
		data.items.add(new File([%q], %q, {type: "text/csv"}));
		document.querySelector(".whole-page").dispatchEvent(new DragEvent("drop", {dataTransfer: data, bubbles: true, cancelable: true}));
	})()`, content, name), nil)
}

// compared holds two runs of a list against each other: one that asked the mail
// hosts, and one that did not.
func compared(t *testing.T, api *client.Client, run contract.Run) {
	t.Helper()
	ctx := t.Context()
	if _, err := api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	c, err := api.Compare(ctx, run.ID, run.ID-2)
	if err != nil {
		t.Fatal(err)
	}
	was, is, changed := byAddress(t, api, run.ID-2), byAddress(t, api, run.ID), int64(0)
	for typed, r := range was {
		if is[typed].Finding != r.Finding {
			changed++
		}
	}
	sum := int64(0)
	for _, m := range c.Changes {
		sum += m.Addresses
	}
	if c.Both != run.Addresses || sum != changed || changed == 0 || int64(len(c.Rows)) != min(changed, 200) {
		t.Errorf("%d of %d changed, %d rows; want %d of %d", sum, c.Both, len(c.Rows), changed, run.Addresses)
	}
	for _, x := range c.Rows {
		if was[x.Typed].Finding != x.From || is[x.Typed].Finding != x.To {
			t.Errorf("%s: from %s to %s; was %s, is %s", x.Typed, x.From, x.To, was[x.Typed].Finding, is[x.Typed].Finding)
		}
	}
	domains, err := api.Domains(ctx, run.ID-2, "")
	if err != nil {
		t.Fatal(err)
	}
	total := int64(0)
	for _, d := range domains {
		there := int64(0)
		for _, f := range d.Findings {
			there += f.Addresses
		}
		if total += d.Addresses; there != d.Addresses {
			t.Errorf("%s: %d findings of %d addresses", d.Domain, there, d.Addresses)
		}
	}
	if l, err := newestLists(ctx, api); err != nil || total != l[0].Addresses {
		t.Errorf("%v: the domains have %d addresses", err, total)
	}
	if _, err := api.Compare(ctx, run.ID, run.ID+7); status(err) != http.StatusNotFound {
		t.Errorf("compared with a run that is not: %v", err)
	}
}

// asked asks again about two addresses that were chosen by an override.
func asked(t *testing.T, api *client.Client, id int64) {
	t.Helper()
	results := allResults(t, api, id)
	var chosen []int32
	for _, r := range results {
		if r.Cause == "mailbox.absent" && len(chosen) < 2 {
			chosen = append(chosen, r.Ordinal)
		}
	}
	r, err := api.AskAgain(context.Background(), id, contract.AskAgain{Ordinals: chosen})
	if err != nil || r.Again > 2 {
		t.Errorf("%v: %d are asked again", err, r.Again)
	}
	if _, err := api.Wait(t.Context(), id, func(contract.Run) {}); err != nil {
		t.Error(err)
	}
	for _, address := range chosen {
		if e, err := api.Evidence(t.Context(), id, address); err != nil || len(e.Asked) < 2 {
			t.Errorf("%v: asked %d times", err, len(e.Asked))
		}
	}
}

// scrolledTo scrolls the rows to the end, again where another order came in
// between, until the page holds the text.
func scrolledTo(text string) chromedp.Action {
	return browser.Wait(fmt.Sprintf(`(document.querySelector(".window")?.scrollTo(0, 1e9), document.body.innerText.includes(%q))`, text))
}

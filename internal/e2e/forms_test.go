package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// asker asks as the visitor of a form does.
type asker struct {
	t           *testing.T
	url, key    string
	origin      string
	http        http.Client
	lastAllowed string // by Access-Control-Allow-Origin
}

// ask asks from a network address, and returns the status, what came and how long it took.
func (a *asker) ask(from, address string) (int, contract.FormAnswer, time.Duration) {
	a.t.Helper()
	body, _ := json.Marshal(contract.OneAddress{Address: address})
	req, err := http.NewRequestWithContext(a.t.Context(), http.MethodPost, a.url+"/api/v1/forms/check", bytes.NewReader(body))
	if err != nil {
		a.t.Fatal(err)
	}
	for name, value := range map[string]string{"Authorization": "Bearer " + a.key, "Content-Type": "application/json", "Origin": a.origin, "Sec-Fetch-Site": "cross-site", "X-Forwarded-For": from} {
		if value != "" {
			req.Header.Set(name, value)
		}
	}
	begun := time.Now()
	resp, err := a.http.Do(req)
	if err != nil {
		a.t.Fatal(err)
	}
	defer resp.Body.Close()
	took := time.Since(begun)
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		a.t.Fatal(err)
	}
	a.lastAllowed = resp.Header.Get("Access-Control-Allow-Origin")
	var told contract.FormAnswer
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&told); resp.StatusCode == http.StatusOK && err != nil {
		a.t.Errorf("it tells more than a form is to know: %s", text)
	}
	return resp.StatusCode, told, took
}

// formKey makes the key of a form on pages of an origin.
func formKey(t *testing.T, api *client.Client, origin string, visits int) string {
	t.Helper()
	k, err := api.MakeKey(t.Context(), contract.NewKey{Name: "the sign-up form", Scopes: []string{"form"}, Origins: []string{origin}, VisitorDay: visits})
	if err != nil {
		t.Fatal(err)
	}
	return k.Key
}

// TestForms: a form is told what its visitor needs and nothing more, from pages of its origins alone,
// within its deadline; who asks about many addresses is slowed down, and told of.
func TestForms(t *testing.T) {
	t.Parallel()
	const origin = "https://www.fernhollow.example"
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_FORM_DEADLINE=400ms"))
	api := client.New(s.URL, s.Key)
	_, run := verified(t, api, i.World, 600)
	all := allResults(t, api, run.ID)
	wrongFormKeys(t, api)
	a := &asker{t: t, url: s.URL, key: formKey(t, api, origin, 8), origin: origin}
	there, absent := peopleAt(t, i.World, all, "postbarn.example")

	for n, c := range []struct{ typed, want, suggestion string }{
		{there[0], "usable", ""},
		{" <" + there[1] + ">", "usable", ""},
		{absent[0], "not-usable", ""},
		{"anybody.at.all@sundial-nursery.example", "usable", ""},
		{"nobody.either@sundial-nursery.example", "usable", ""},
		{"rosa.elm@postbran.example", "typing-error", "rosa.elm@postbarn.example"},
		{"rosa.elm@nowhere-at-all.example", "not-usable", ""},
		{"rosa elm@@postbarn", "not-usable", ""},
		{"rosa.elm@nethermoss.example", "not-known", ""},
	} {
		code, told, _ := a.ask(fmt.Sprintf("192.0.2.%d", n+1), c.typed)
		if code != http.StatusOK || told.Answer != c.want || told.Suggestion != c.suggestion || a.lastAllowed != origin {
			t.Errorf("%s: %d, %+v, allowed for %q; want %s", c.typed, code, told, a.lastAllowed, c.want)
		}
	}
	goesOn(t, a, i.World, all)
	notForOthers(t, s, a)
	enumerating(t, s, api, a, there, absent)
	text := s.Log() + dumped(t, s.Setting("VARNET_DSN"))
	if strings.Contains(text, "nowhere-at-all") || strings.Contains(text, "192.0.2.") || strings.Contains(text, "198.51.100.") {
		t.Error("what visitors typed, or where they come from, is kept")
	}
}

func wrongFormKeys(t *testing.T, api *client.Client) {
	t.Helper()
	for _, n := range []contract.NewKey{
		{Name: "x", Scopes: []string{"form", "read"}, Origins: []string{"https://www.fernhollow.example"}},
		{Name: "x", Scopes: []string{"form"}},
		{Name: "x", Scopes: []string{"read"}, Origins: []string{"https://www.fernhollow.example"}},
		{Name: "x", Scopes: []string{"form"}, Origins: []string{"https://www.fernhollow.example/sign-up"}},
		{Name: "x", Scopes: []string{"form"}, Origins: []string{"*"}},
		{Name: "x", Scopes: []string{"form"}, Origins: []string{"javascript://x"}},
	} {
		if _, err := api.MakeKey(t.Context(), n); status(err) != http.StatusUnprocessableEntity {
			t.Errorf("%+v: %v", n, err)
		}
	}
}

// peopleAt are some mailboxes of a domain that exist, from a run, and some that do not.
func peopleAt(t *testing.T, w *practice.World, all []contract.Result, domain string) (there, absent []string) {
	t.Helper()
	for _, r := range all {
		if r.Domain == domain && w.Truth(practice.Canonical(r.Typed)).Deliverable() {
			there = append(there, r.Mailbox)
		}
	}
	for n := range 40 {
		absent = append(absent, fmt.Sprintf("nobody.%d@%s", n, domain))
	}
	if len(there) < 3 {
		t.Fatalf("%d people at %s", len(there), domain)
	}
	return there, absent
}

// goesOn: what takes longer than a visitor waits goes on, and the next look has it.
func goesOn(t *testing.T, a *asker, w *practice.World, all []contract.Result) {
	t.Helper()
	slow, _ := peopleAt(t, w, all, "millpond.example")
	code, told, took := a.ask("192.0.2.40", slow[0])
	if code != http.StatusOK || told.Answer != "not-known" || took < 350*time.Millisecond || took > 1500*time.Millisecond {
		t.Errorf("of a slow host: %d, %+v after %v", code, told, took)
	}
	eventually(t, 20*time.Second, func() (bool, string) {
		_, told, _ := a.ask("192.0.2.40", slow[0])
		return told.Answer == "usable", "the next look says " + told.Answer
	})
}

// notForOthers: a key of a form opens nothing but forms, and for pages of its origins alone.
func notForOthers(t *testing.T, s *testkit.Service, a *asker) {
	t.Helper()
	for _, origin := range []string{"", "https://fernhollow.example", "https://www.fernhollow.example.evil.test", "null"} {
		other := *a
		other.origin = origin
		if code, _, _ := other.ask("192.0.2.41", "rosa.elm@postbarn.example"); code != http.StatusForbidden {
			t.Errorf("from %q: %d", origin, code)
		}
	}
	if _, err := client.New(s.URL, a.key).Lists(t.Context(), contract.ListQuery{}); status(err) != http.StatusForbidden {
		t.Errorf("lists by the key of a form: %v", err)
	}
	plain := *a
	plain.key = s.Key
	if code, _, _ := plain.ask("192.0.2.41", "rosa.elm@postbarn.example"); code != http.StatusForbidden {
		t.Errorf("a form by a key of programs: %d", code)
	}
	req, _ := http.NewRequestWithContext(t.Context(), http.MethodOptions, s.URL+"/api/v1/forms/check", nil)
	req.Header.Set("Origin", a.origin)
	req.Header.Set("Access-Control-Request-Method", "POST")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusNoContent || !strings.Contains(resp.Header.Get("Access-Control-Allow-Headers"), "authorization") {
		t.Errorf("the browser's question is answered %s, %v", resp.Status, resp.Header)
	}
}

// enumerating: one visitor with many addresses waits longer and longer, and is told nothing in the
// end; many visitors with the names of one domain are told nothing about it.
func enumerating(t *testing.T, s *testkit.Service, api *client.Client, a *asker, there, absent []string) {
	t.Helper()
	var took []time.Duration
	for n := range 7 {
		_, _, d := a.ask("192.0.2.50", there[n])
		took = append(took, d)
	}
	if took[5] < 250*time.Millisecond || took[6] < 500*time.Millisecond || took[6] < took[5] {
		t.Errorf("a visitor with many addresses waits %v", took)
	}
	for range 2 {
		a.ask("192.0.2.50", there[6])
	}
	if _, told, _ := a.ask("192.0.2.50", there[6]); told.Answer != "not-known" {
		t.Errorf("asked more often than a visitor may: %+v", told)
	}
	for n := range 30 {
		a.ask(fmt.Sprintf("198.51.100.%d", n+1), absent[n+1])
	}
	if _, told, _ := a.ask("198.51.100.99", there[20]); told.Answer != "not-known" {
		t.Errorf("whoever tries the names of a domain is told %+v", told)
	}
	if _, told, _ := a.ask("198.51.100.98", "rosa.elm@mailmeadow.example"); told.Answer == "not-known" {
		t.Errorf("of another domain: %+v", told)
	}
	eventually(t, 10*time.Second, func() (bool, string) {
		e, err := api.Events(t.Context(), 0, 200)
		if err != nil {
			return false, err.Error()
		}
		for _, one := range e.Items {
			if one.Code == "form.enumerated" {
				return true, ""
			}
		}
		return false, "nobody is told"
	})
}

// TestFormPage types into a sign-up form: a typing error is mended by one click or key; the form is
// sent in any case, also without scripts, without the service and on a slow line.
func TestFormPage(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	verified(t, api, i.World, 600)
	site, err := practice.StartSite("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer site.Close()
	page := site.Page(s.URL, formKey(t, api, site.URL, 50))
	script, err := os.ReadFile(filepath.Join(testkit.Root(), "web/public/forms/varnet-form.js"))
	if err != nil || len(script) > 3072 {
		t.Errorf("the script has %d bytes, %v", len(script), err)
	}
	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("a typing error", chromedp.Navigate(page), browser.Type("#email", "rosa.elm@postbran.example"), browser.Text("Did you mean rosa.elm@postbarn.example?"))
	do("it is a live region of the field", browser.Wait(`(e => e.getAttribute("role") === "status" && document.querySelector("#email").getAttribute("aria-describedby") === e.id)(document.querySelector(".varnet-says"))`))
	do("mended by one click", browser.Press("Use it"), browser.Wait(`document.querySelector("#email").value === "rosa.elm@postbarn.example" && document.activeElement.id === "email"`))
	do("sent", browser.Press("Send me the seed letter"), browser.Text("The next seed letter goes to rosa.elm@postbarn.example."))
	do("by keyboard", chromedp.Navigate(page), browser.Type("#email", "ada.moss@fernhollw.example"), browser.Text("Did you mean ada.moss@fernhollow.example?"), chromedp.KeyEvent("\t"),
		browser.Wait(`document.activeElement.textContent === "Use it"`), chromedp.KeyEvent(" "), browser.Wait(`document.querySelector("#email").value === "ada.moss@fernhollow.example"`))
	do("not usable", chromedp.Navigate(page), browser.Type("#email", "ada.moss@nowhere-at-all.example"), browser.Text("does not seem to arrive"))
	do("and sent all the same", browser.Press("Send me the seed letter"), browser.Text("goes to ada.moss@nowhere-at-all.example"))
	line := func(latency float64) chromedp.Action {
		return chromedp.ActionFunc(func(ctx context.Context) error {
			if err := network.Enable().Do(ctx); err != nil {
				return err
			}
			_, err := network.EmulateNetworkConditionsByRule(false, []*network.Conditions{{Latency: latency, DownloadThroughput: -1, UploadThroughput: -1}}).Do(ctx)
			return err
		})
	}
	do("on a slow line", chromedp.Navigate(page), browser.Seen(".varnet-says"), line(3000), browser.Type("#email", "rosa.elm@postbran.example"),
		browser.Press("Send me the seed letter"), browser.Text("goes to rosa.elm@postbran.example"), line(0))
	do("without scripts", chromedp.ActionFunc(func(ctx context.Context) error { return emulation.SetScriptExecutionDisabled(true).Do(ctx) }), chromedp.Navigate(page),
		chromedp.KeyEvent("\t\trosa.elm@postbarn.example\r"), chromedp.Sleep(2*time.Second), // nothing on the page can be asked meanwhile
		chromedp.ActionFunc(func(ctx context.Context) error { return emulation.SetScriptExecutionDisabled(false).Do(ctx) }), browser.Text("goes to rosa.elm@postbarn.example"))
	do("the page is there", chromedp.Navigate(page), browser.Seen(".varnet-says"))
	_ = s.Signal(syscall.SIGTERM)
	do("the service goes away", browser.Type("#email", "rosa.elm@postbran.example"), browser.Press("Send me the seed letter"), browser.Text("goes to rosa.elm@postbran.example"))
	do("and is not there at all", chromedp.Navigate(page), browser.Type("#email", "rosa.elm@hedgerow-post.example"), browser.Press("Send me the seed letter"), browser.Text("goes to rosa.elm@hedgerow-post.example"))
}

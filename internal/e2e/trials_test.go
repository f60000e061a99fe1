package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/emersion/go-msgauth/dkim"

	"varnet/core/finding"
	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// thirdCatchAll starts the world with a third of its people at catch-all domains.
func thirdCatchAll(t *testing.T) *practice.Internet {
	t.Helper()
	w, err := practice.Load("fernhollow")
	if err != nil {
		t.Fatal(err)
	}
	w.CatchAll(1.0 / 3)
	i, err := practice.Start(w, "127.0.0.1:0", 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(i.Close)
	return i
}

// settling is a service whose workspace can send trial letters, by a letterbox that passes them
// on to the practice hosts.
type settling struct {
	*testkit.Service
	i     *practice.Internet
	box   *practice.Letterbox
	clock *calendar
	api   *client.Client // by a key
	ada   *client.Client // the owner
	host  string
	port  int
}

func newSettling(t *testing.T) settling {
	t.Helper()
	s := settling{i: thirdCatchAll(t), clock: newCalendar(t)}
	door := "127.0.0.1:" + testkit.FreePort(t)
	s.Service = testkit.Serve(t, append(testkit.Settings(testkit.Database(t), s.i), "VARNET_CLOCK="+s.clock.file, "VARNET_LETTER_REST=0s",
		"VARNET_RETURNS=lmtp://"+door, "VARNET_RETURNS_DOMAIN=returns.fernhollow.example"))
	s.api, s.ada = client.New(s.URL, s.Key), client.New(s.URL, s.SignIn(t))
	s.box = letterbox(t, s.i, s.Service)
	if err := s.box.PassOn(s.i.World, "lmtp://"+door, 500*time.Millisecond, true); err != nil {
		t.Fatal(err)
	}
	host, port, _ := net.SplitHostPort(s.box.SMTP)
	s.host = host
	s.port, _ = strconv.Atoi(port)
	return s
}

// ours reports whether a return address is that of a trial letter: news of the service come to
// the letterbox, too.
func ours(returns string) bool { return strings.HasSuffix(returns, "@returns.fernhollow.example") }

// letters are the trial letters in the letterbox.
func (s settling) letters() []practice.Delivered {
	return slices.DeleteFunc(s.box.Letters(""), func(l practice.Delivered) bool { return !ours(l.From) })
}

// passed are the trial letters that the letterbox passed on to the practice hosts.
func (s settling) passed() []practice.Posted {
	return slices.DeleteFunc(s.box.Passed(), func(p practice.Posted) bool { return !ours(p.ReturnPath) })
}

// sender is a sender of trial letters that passes every test.
func (s settling) sender() contract.NewTrialSender {
	key := practice.DKIMKey
	return contract.NewTrialSender{Host: s.host, Port: s.port, Security: "none", Sender: "Fernhollow Seed Library <letters@fernhollow.example>", Servers: []string{"127.0.0.1"}, Selector: "varnet", Key: &key}
}

func honestLetter() contract.TrialOrder {
	return contract.TrialOrder{TrialText: contract.TrialText{Subject: "Your seeds for the spring", Body: "Dear gardener,\n\nthe broad beans of last year did well, and we would like to send you some this spring. Just answer this letter.",
		Who: "Fernhollow Seed Library, Mill Lane 4, letters@fernhollow.example", Why: "You gave us your address at the seed fair in 2024."},
		Name: "Spring seeds", Reason: "Members agreed to letters when they joined the library.", Confirmed: true}
}

// TestTrialLetters settles the catch-all addresses of a list by trial letters: off until the
// owner turns them on, honest or not at all, signed, once ever; what bounces is told, what
// does not is settled, and who wants no more is struck.
func TestTrialLetters(t *testing.T) {
	t.Parallel()
	s := newSettling(t)
	ctx := t.Context()
	_, run := verified(t, s.api, s.i.World, 300)
	forecast := s.turnOn(t, run)

	m, err := s.ada.OrderTrialLetters(ctx, run.ID, honestLetter())
	if err != nil {
		t.Fatal(err)
	}
	state := func(want string) {
		t.Helper()
		eventually(t, 40*time.Second, func() (bool, string) {
			if m, err = s.api.Mailing(ctx, m.ID); err != nil {
				t.Fatal(err)
			}
			return m.State == want, m.State + ": " + m.Says
		})
	}
	state("watching")
	passed := s.passed()
	if len(passed) != forecast.Letters || m.Letters != int64(forecast.Letters) || m.Trial == nil || m.Trial.Sent != m.Letters || m.Trial.Waiting != 0 {
		t.Errorf("%d letters were passed on of %d: %+v, %+v", len(passed), forecast.Letters, m, m.Trial)
	}
	s.checkSigned(t)
	want := truths(s.i.World.ComesBack(passed, true))
	bounced := int64(0)
	for _, w := range want {
		if w.Permanent {
			bounced++
		}
	}
	eventually(t, 30*time.Second, func() (bool, string) {
		m, err = s.api.Mailing(ctx, m.ID)
		return err == nil && m.Outcomes.Bounced == bounced, fmt.Sprintf("%d of %d bounces are in", m.Outcomes.Bounced, bounced)
	})
	left := s.unsubscribe(t, m, want)
	s.clock.set(73 * time.Hour)
	state("closed")
	checkLetters(t, s.api, m, want)
	s.checkSettled(t, run, passed, want, left)

	again, err := s.api.ForecastTrialLetters(ctx, run.ID)
	if err != nil || again.Letters != 0 {
		t.Errorf("each address gets one letter, ever: %v, %+v", err, again)
	}
	s.checkReason(t, m)
}

// turnOn has the owner turn trial letters on, and sees to it that nothing is sent before all
// is as it should be.
func (s settling) turnOn(t *testing.T, run contract.Run) contract.TrialForecast {
	t.Helper()
	ctx := t.Context()
	refused := func(c *client.Client, change func(*contract.TrialOrder), wants string) {
		t.Helper()
		o := honestLetter()
		if change != nil {
			change(&o)
		}
		if _, err := c.OrderTrialLetters(ctx, run.ID, o); err == nil || !strings.Contains(fmt.Sprint(err), wants) {
			t.Errorf("%v, which should tell %q", err, wants)
		}
	}
	refused(s.ada, nil, "are off for this workspace")
	if _, err := s.api.AllowTrialLetters(ctx, true); err == nil {
		t.Error("a key turned trial letters on")
	}
	if _, err := s.ada.AllowTrialLetters(ctx, true); err != nil {
		t.Fatal(err)
	}
	refused(s.ada, nil, "no sender of trial letters")
	unsigned := s.sender()
	unsigned.Selector, unsigned.Key, unsigned.Servers = "", nil, []string{"192.0.2.7"}
	if _, err := s.ada.SetTrialSender(ctx, unsigned); err != nil {
		t.Fatal(err)
	}
	if tested, err := s.ada.TestTrialSender(ctx); err != nil || tested.Usable {
		t.Errorf("a server that SPF does not allow: %v, %+v", err, tested)
	}
	refused(s.ada, nil, "its test found a fault")
	if _, err := s.ada.SetTrialSender(ctx, s.sender()); err != nil {
		t.Fatal(err)
	}
	refused(s.ada, nil, "is not tested")
	if tested, err := s.ada.TestTrialSender(ctx); err != nil || !tested.Usable || len(tested.Checks) < 4 {
		t.Fatalf("%v, %+v", err, tested)
	}
	refused(s.api, nil, "on a person's order")
	refused(s.ada, func(o *contract.TrialOrder) { o.Confirmed = false }, "confirm that you may")
	refused(s.ada, func(o *contract.TrialOrder) { o.Subject = "Re: your order" }, "passes the letter off as an answer")
	refused(s.ada, func(o *contract.TrialOrder) { o.Body = " \n" }, "write a letter that a person can answer")
	refused(s.ada, func(o *contract.TrialOrder) { o.Who = "" }, "write who you are")
	refused(s.ada, func(o *contract.TrialOrder) { o.Reason = "because" }, "the legal basis")
	if n := len(s.letters()); n != 0 {
		t.Errorf("%d letters left before one was ordered", n)
	}
	f, err := s.api.ForecastTrialLetters(ctx, run.ID)
	if err != nil || f.Letters < 60 || f.Problem != "" || f.Operators < 1 || !strings.Contains(f.Says, "letters to") {
		t.Fatalf("%v, %+v", err, f)
	}
	return f
}

// checkSigned holds the letters against what each must have: a signature over the unsubscribe link,
// the text with who, why and how to be left alone, a return address of its own.
func (s settling) checkSigned(t *testing.T) {
	t.Helper()
	returns := map[string]bool{}
	names := &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", s.i.DNS)
	}}
	for _, l := range s.letters() {
		signed, err := dkim.VerifyWithOptions(bytes.NewReader(l.Raw), &dkim.VerifyOptions{LookupTXT: func(name string) ([]string, error) { return names.LookupTXT(t.Context(), name) }})
		if err != nil || len(signed) != 1 || signed[0].Err != nil || signed[0].Domain != "fernhollow.example" {
			t.Fatalf("the signature: %v, %+v", err, signed)
		}
		head := string(l.Raw[:bytes.Index(l.Raw, []byte("\r\n\r\n"))])
		fields := strings.ToLower(strings.Join(signed[0].HeaderKeys, ":"))
		if !strings.Contains(head, "List-Unsubscribe-Post: List-Unsubscribe=One-Click") || !strings.Contains(fields, "list-unsubscribe:list-unsubscribe-post") {
			t.Fatalf("the unsubscribe link is not there or not signed (%s): %s", fields, head)
		}
		text := strings.Join(strings.Fields(l.Text), " ")
		for _, want := range []string{honestLetter().Who, honestLetter().Why, "broad beans", s.URL + "/unsubscribe/"} {
			if !strings.Contains(text, want) {
				t.Fatalf("a letter lacks %q: %s", want, l.Text)
			}
		}
		if returns[l.From] {
			t.Errorf("the return address %s is not its own", l.From)
		}
		returns[l.From] = true
	}
}

var unsubscribeLink = regexp.MustCompile(`http://\S+/unsubscribe/\S+`)

// unsubscribe has somebody unsubscribe whose letter arrived, by the link and by their mail
// program, and returns who.
func (s settling) unsubscribe(t *testing.T, m contract.Mailing, want map[string]contract.Letter) string {
	t.Helper()
	var letter practice.Delivered
	for _, l := range s.letters() {
		if want[l.To].Outcome == "" {
			letter = l
			break
		}
	}
	link := unsubscribeLink.FindString(letter.Text)
	get := func(method, at, body string) (int, string) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, at, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, string(text)
	}
	unsubscribed := func() int64 {
		m, err := s.api.Mailing(t.Context(), m.ID)
		if err != nil {
			t.Fatal(err)
		}
		return m.Trial.Unsubscribed
	}
	if code, text := get(http.MethodGet, link, ""); code != http.StatusOK || !strings.Contains(text, letter.To) || !strings.Contains(text, "Fernhollow Seed Library") || unsubscribed() != 0 {
		t.Errorf("the link %s: %d, and following it alone struck %d: %s", link, code, unsubscribed(), text)
	}
	if code, _ := get(http.MethodPost, link+"a", "List-Unsubscribe=One-Click"); code != http.StatusNotFound || unsubscribed() != 0 {
		t.Errorf("a link that nobody has: %d", code)
	}
	for range 2 { // a second time changes nothing
		if code, text := get(http.MethodPost, link, "List-Unsubscribe=One-Click"); code != http.StatusOK || unsubscribed() != 1 {
			t.Errorf("%d: %s", code, text)
		}
	}
	return letter.To
}

// checkSettled holds the results of the list against what became of the letters: of the
// catch-all addresses every one that bounces for good is told so, and no other.
func (s settling) checkSettled(t *testing.T, run contract.Run, passed []practice.Posted, want map[string]contract.Letter, left string) {
	t.Helper()
	byAddress, counts := map[string]contract.Result{}, map[string]int{}
	for _, r := range allResults(t, s.api, run.ID) {
		byAddress[r.Mailbox] = r
	}
	for _, p := range passed {
		r, w := byAddress[p.To], want[p.To]
		cause, decision := finding.MailboxSettled, "keep"
		switch {
		case w.Permanent:
			cause, decision = finding.MailboxBounced, "drop"
		case w.Outcome == "bounced" || w.Outcome == "delayed":
			cause, decision = r.Cause, string(r.Decision) // nothing is settled by what may pass
			if r.Finding != finding.CatchAll || r.Cause == finding.MailboxSettled {
				t.Errorf("%s is %s though its letter was %s", p.To, r.Cause, w.Outcome)
			}
		case w.Outcome == "complained" || p.To == left:
			cause, decision = r.Cause, "drop"
		}
		if r.Cause != cause || string(r.Decision) != decision {
			t.Errorf("%s is %s, %s, and should be %s, %s (%+v)", p.To, r.Cause, r.Decision, cause, decision, w)
		}
		counts[string(r.Cause)]++
	}
	if !slices.Contains(byAddress[left].Traits, finding.TraitUnsubscribed) {
		t.Errorf("%s unsubscribed: %+v", left, byAddress[left].Traits)
	}
	if counts["mailbox.bounced"] < 15 || counts["mailbox.settled"] < 15 {
		t.Errorf("too little was tried: %v", counts)
	}
	settled, err := s.api.AllResults(t.Context(), run.ID, url.Values{"cause": {string(finding.MailboxSettled)}})
	if err != nil || len(settled) == 0 {
		t.Fatalf("%v: %d", err, len(settled))
	}
	e, err := s.api.Evidence(t.Context(), run.ID, settled[0].Ordinal)
	if err != nil || len(e.Asked) == 0 || !strings.Contains(e.Asked[len(e.Asked)-1].Why, "did not come back within the watch") {
		t.Errorf("%v: %+v", err, e.Asked)
	}
}

// checkReason finds the order in the audit trail, with the legal basis it was given.
func (s settling) checkReason(t *testing.T, m contract.Mailing) {
	t.Helper()
	req, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, s.URL+"/api/v1/audit?action=order-trial-letters", nil)
	req.Header.Set("Authorization", "Bearer "+s.Key)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	if !strings.Contains(string(text), honestLetter().Reason) || strings.Count(string(text), "done") != 1 {
		t.Errorf("the audit trail: %s", text)
	}
}

// TestSettlePage goes the whole way in the console: from the catch-all addresses of a run over
// the sender and the letter to what comes back, the list decided again, and its export.
func TestSettlePage(t *testing.T) {
	t.Parallel()
	s := newSettling(t)
	ctx := t.Context()
	_, run := verified(t, s.api, s.i.World, 200)
	do := drive(t, browser.Options{Width: 1280, Height: 800})
	at := func(path string) chromedp.Action { return chromedp.Navigate(s.URL + path) }
	do("sign in", browser.SignIn(s.URL))
	do("trial letters are off", at(fmt.Sprintf("/runs/%d/export", run.ID)), browser.Press("Settle catch-all addresses by trial letters"),
		browser.Text("bounces are waited for, 72 hours"), browser.Text("are off for this workspace"), browser.Press("Go to Trial letters"))
	do("the owner turns them on", browser.Click(`[aria-label="Trial letters"]`), browser.Text("On, turned on by Ada Moss"))
	do("the sender", browser.Fill("Submission server", s.host), browser.Fill("Port", strconv.Itoa(s.port)), pick("Security", "none, on this machine alone"), browser.Fill("Sender", s.sender().Sender),
		browser.Fill("Addresses the letters leave from", "127.0.0.1"), click("Save the sender"), browser.Text("is published as a TXT record"))
	if _, err := s.ada.SetTrialSender(ctx, s.sender()); err != nil { // with the key that the practice internet publishes
		t.Fatal(err)
	}
	do("is tested", at("/trial-letters"), browser.Text("varnet._domainkey.fernhollow.example"), browser.Text("It has not been tested since it was changed"), click("Test the sender"),
		browser.Text("The signature is aligned"), browser.Text("Trial letters can be sent"))
	letter := honestLetter()
	do("a letter that hides its writer is refused", at(fmt.Sprintf("/runs/%d/settle", run.ID)), browser.Text("Your letter"), fillNamed("Subject", letter.Subject), fillNamed("Letter", letter.Body),
		fillNamed("Who writes", ""), fillNamed("Why you write to them", letter.Why), click("Look at the letter"), browser.Text("write who you are"))
	do("an honest one is looked at and ordered", fillNamed("Who writes", letter.Who), click("Look at the letter"), browser.Text("As its readers get it"), browser.Text("/unsubscribe/"),
		fillNamed("By which right you write to these people", letter.Reason), browser.Click(".letter-form .ant-checkbox-input"), browser.Click(".letter-form section .ant-btn-primary"))
	do("its letters leave", browser.Text("Trial letters:"), browser.Text("are still watched"))
	mailings, err := s.api.Mailings(ctx, 0)
	if err != nil || len(mailings.Items) != 1 {
		t.Fatalf("%v: %+v", err, mailings)
	}
	bounced := int64(0)
	for _, w := range truths(s.i.World.ComesBack(s.passed(), true)) {
		if w.Permanent {
			bounced++
		}
	}
	m := mailings.Items[0]
	eventually(t, 30*time.Second, func() (bool, string) {
		m, err = s.api.Mailing(ctx, m.ID)
		return err == nil && m.Outcomes.Bounced == bounced, fmt.Sprintf("%d of %d bounces are in", m.Outcomes.Bounced, bounced)
	})
	before := kept(t, s.api, run)
	s.clock.set(73 * time.Hour)
	do("the watch ends", at(fmt.Sprintf("/mailings/%d", m.ID)), browser.Text("The watch ended"), browser.Text("did not come back"))
	do("the list is decided again", at(fmt.Sprintf("/runs/%d/results?cause=mailbox.settled", run.ID)), browser.Text("No bounce after a message"))
	if now := kept(t, s.api, run); now < before+int(m.Outcomes.Open)/2 {
		t.Errorf("%d addresses were kept, and %d are", before, now)
	}
	do("and exported", at(fmt.Sprintf("/runs/%d/export", run.ID)), browser.Text("No bounce after a message"))
	var file bytes.Buffer
	if err := s.api.ExportFile(ctx, run.ID, contract.ExportChoice{Decision: "keep", Form: "addresses", Format: "txt"}, &file); err != nil {
		t.Fatal(err)
	}
	for _, p := range s.passed() {
		if bounced := truths(s.i.World.ComesBack([]practice.Posted{p}, true))[p.To].Permanent; bounced && strings.Contains(file.String(), p.To+"\n") {
			t.Errorf("%s bounced and is exported", p.To)
		}
	}
	if n := strings.Count(file.String(), "@"); n < before {
		t.Errorf("%d addresses are exported, and %d were kept before", n, before)
	}
}

// kept is how many addresses of a run are kept.
func kept(t *testing.T, api *client.Client, run contract.Run) (n int) {
	t.Helper()
	for _, r := range allResults(t, api, run.ID) {
		if r.Decision == "keep" {
			n++
		}
	}
	return n
}

// fillNamed replaces the text of the field with a name.
func fillNamed(name, text string) chromedp.Action {
	field := fmt.Sprintf("document.querySelector('input[aria-label=%[1]q], textarea[aria-label=%[1]q]')", name)
	return chromedp.Tasks{browser.Wait(field), chromedp.Evaluate(field+".focus(), "+field+".select()", nil), chromedp.KeyEvent("\b" + text)}
}

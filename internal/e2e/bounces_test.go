package e2e

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/emersion/go-smtp"

	"varnet/core/finding"
	"varnet/internal/browser"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// mailbox is messages as a mailbox file.
func mailbox(t *testing.T, answers []practice.Back) *bytes.Buffer {
	t.Helper()
	var b bytes.Buffer
	if err := practice.WriteMailbox(&b, answers); err != nil {
		t.Fatal(err)
	}
	return &b
}

// posted are the letters of a mailing, as a sending tool sent them.
func posted(t *testing.T, api *client.Client, m contract.Mailing) (sent []practice.Posted) {
	t.Helper()
	cursor := ""
	for {
		p, err := api.MailingLetters(t.Context(), m.ID, "", cursor)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range p.Items {
			sent = append(sent, practice.Posted{To: l.Address, ID: fmt.Sprintf("spring.%d@fernhollow.example", l.Number), ReturnPath: "returns@fernhollow.example", At: m.SentAt})
		}
		if cursor = p.Next; cursor == "" {
			return sent
		}
	}
}

// truths returns the outcome that each letter must have once the watch is over.
func truths(answers []practice.Back) map[string]contract.Letter {
	want := map[string]contract.Letter{}
	for _, a := range answers {
		switch a.Means {
		case practice.BouncedForGood:
			want[a.To] = contract.Letter{Outcome: "bounced", Permanent: true}
		case practice.BouncedPassing:
			want[a.To] = contract.Letter{Outcome: "bounced"}
		case practice.StillTried:
			want[a.To] = contract.Letter{Outcome: "delayed"}
		case practice.ComplainedOf:
			want[a.To] = contract.Letter{Outcome: "complained"}
		}
	}
	return want
}

// TestMailing mails the kept and held rows of a run, takes in what comes back, with and
// without forwarders between, and lets the watch end: what bounced is told, catch-all
// addresses are settled, in this list and in runs from then on.
func TestMailing(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	clock := newCalendar(t)
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	l, run := verified(t, api, i.World, 1500)
	m, err := api.RegisterMailing(ctx, contract.NewMailing{Name: "Spring letter", RunID: run.ID, Decisions: []string{"keep", "hold"}})
	if err != nil {
		t.Fatal(err)
	}
	watching := func() bool {
		if m, err = api.Mailing(ctx, m.ID); err != nil {
			t.Fatal(err)
		}
		return m.State == "watching"
	}
	eventually(t, 20*time.Second, func() (bool, string) { return watching(), m.State })
	answers := i.World.ComesBack(posted(t, api, m), true)
	taken, err := api.ImportBounces(ctx, mailbox(t, answers))
	if err != nil || taken.Messages != len(answers) || taken.Nobody != 0 {
		t.Fatalf("%v: %+v of %d", err, taken, len(answers))
	}
	again, err := api.ImportBounces(ctx, mailbox(t, answers))
	if err != nil || again.Known != len(answers) || again.Bounced != 0 {
		t.Errorf("sent again: %v, %+v", err, again)
	}
	told, err := api.Events(ctx, 0, 200)
	if err != nil || !slices.ContainsFunc(told.Items, func(e contract.Event) bool { return e.Code == "mailing.bounces" && e.Data.MailingID == m.ID }) {
		t.Errorf("nobody is told that many bounced: %v, %+v", err, told.Items)
	}
	want := truths(answers)
	clock.set(73 * time.Hour)
	eventually(t, 30*time.Second, func() (bool, string) { watching(); return m.State == "closed", m.State })
	checkLetters(t, api, m, want)
	checkDecidedAnew(t, api, run, want)

	sum, err := api.Outcomes(ctx, m.ID)
	if err != nil || len(sum.Operators) == 0 || sum.Operators[0].Name == "" || sum.Operators[0].Bounced == 0 || len(sum.Lists) != 1 || sum.Lists[0].Bounced != m.Outcomes.Bounced {
		t.Errorf("%v: by operator %+v, by list %+v", err, sum.Operators, sum.Lists)
	}

	t.Run("single checks", func(t *testing.T) {
		for address, w := range want {
			if !w.Permanent {
				continue
			}
			r, err := api.Check(ctx, []string{address})
			if err != nil || len(r) != 1 || r[0].Cause != finding.MailboxBounced || len(r[0].Asked) != 1 || !r[0].Asked[0].Letter {
				t.Errorf("%s: %v: %+v", address, err, r)
			}
			break
		}
	})
	t.Run("runs from now on", func(t *testing.T) {
		later, err := api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
		if err != nil {
			t.Fatal(err)
		}
		if later, err = api.Wait(ctx, later.ID, func(contract.Run) {}); err != nil {
			t.Fatal(err)
		}
		checkDecidedAnew(t, api, later, want)
	})
}

// checkLetters holds the outcome of every letter against the truth.
func checkLetters(t *testing.T, api *client.Client, m contract.Mailing, want map[string]contract.Letter) {
	t.Helper()
	cursor, bounced := "", 0
	for {
		p, err := api.MailingLetters(t.Context(), m.ID, "", cursor)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range p.Items {
			w, ok := want[l.Address]
			if !ok {
				w.Outcome = "no bounce"
			}
			if l.Outcome != w.Outcome || l.Permanent != w.Permanent {
				t.Errorf("%s is %s (for good: %v), and should be %s (%v): %s", l.Address, l.Outcome, l.Permanent, w.Outcome, w.Permanent, l.Words)
			}
			if l.Permanent {
				bounced++
			}
		}
		if cursor = p.Next; cursor == "" {
			break
		}
	}
	if bounced < 20 || int64(bounced) != m.Outcomes.Bounced {
		t.Errorf("%d letters bounced for good, and %+v", bounced, m.Outcomes)
	}
}

// checkDecidedAnew holds the results of a run against what came back: what bounced for good
// is undeliverable, who complained is dropped, and catch-all addresses that were mailed in
// silence are settled and kept.
func checkDecidedAnew(t *testing.T, api *client.Client, run contract.Run, want map[string]contract.Letter) {
	t.Helper()
	counts := map[string]int{}
	for _, r := range allResults(t, api, run.ID) {
		w := want[r.Mailbox]
		switch {
		case w.Permanent:
			counts["bounced"]++
			if r.Cause != finding.MailboxBounced || r.Decision != "drop" {
				t.Errorf("%s bounced for good and is %s, %s", r.Mailbox, r.Cause, r.Decision)
			}
		case r.Cause == finding.MailboxBounced:
			t.Errorf("%s did not bounce for good and is told so", r.Mailbox)
		case w.Outcome == "complained":
			counts["complained"]++
			if r.Decision != "drop" {
				t.Errorf("%s complained and is decided %s", r.Mailbox, r.Decision)
			}
		case r.Finding == finding.CatchAll && w.Outcome == "":
			counts["settled"]++
			if r.Cause != finding.MailboxSettled {
				t.Errorf("%s was mailed in silence and is %s", r.Mailbox, r.Cause)
			}
		case r.Cause == finding.MailboxSettled:
			t.Errorf("%s is settled though it was %s", r.Mailbox, w.Outcome)
		}
	}
	if counts["bounced"] < 20 || counts["complained"] < 2 || counts["settled"] < 20 {
		t.Errorf("too little was tried: %v", counts)
	}
	settled, err := api.AllResults(t.Context(), run.ID, url.Values{"cause": {string(finding.MailboxBounced)}})
	if err != nil || len(settled) == 0 {
		t.Fatalf("%v: %d", err, len(settled))
	}
	e, err := api.Evidence(t.Context(), run.ID, settled[0].Ordinal)
	if err != nil || len(e.Asked) == 0 {
		t.Fatalf("%v: %+v", err, e)
	}
	if last := e.Asked[len(e.Asked)-1]; !last.Letter || !strings.Contains(last.Why, "came back for good") || last.Reply == "" {
		t.Errorf("%+v", e.Asked)
	}
}

// handOver hands a message to the door of a service as a mail server does, by LMTP
// (RFC 2033), to some return addresses. It returns the first refusal.
func handOver(t *testing.T, door string, message []byte, to ...string) error {
	t.Helper()
	conn, err := net.Dial("tcp", door)
	if err != nil {
		t.Fatal(err)
	}
	c := smtp.NewClientLMTP(conn)
	defer c.Close()
	if err := c.Hello("mx.fernhollow.example"); err != nil {
		t.Fatal(err)
	}
	if err := c.Mail("", nil); err != nil {
		t.Fatal(err)
	}
	for _, a := range to {
		if err := c.Rcpt(a, nil); err != nil {
			return err
		}
	}
	w, err := c.Data()
	if err != nil {
		return err
	}
	if _, err := w.Write(bytes.ReplaceAll(message, []byte("\n"), []byte("\r\n"))); err != nil {
		t.Fatal(err)
	}
	return w.Close()
}

// TestReturnAddresses has bounces handed over by a mail server to return addresses of ours,
// and forged ones: with a wrong tag, of another workspace, replayed, made up in masses.
func TestReturnAddresses(t *testing.T) {
	t.Parallel()
	i, door := testkit.World(t, "fernhollow"), "127.0.0.1:"+testkit.FreePort(t)
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_RETURNS=lmtp://"+door, "VARNET_RETURNS_DOMAIN=returns.fernhollow.example"))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	m, err := api.ImportMailing(ctx, client.MailingTable{Name: "Members"}, strings.NewReader("name,email\nAda,ada@upperloam.example\nWren,wren@orchard.example\nLinnea,linnea@attic.example\n"))
	if err != nil || m.State != "watching" || m.Letters != 3 {
		t.Fatalf("%v: %+v", err, m)
	}
	letters, err := api.MailingLetters(ctx, m.ID, "", "")
	if err != nil || len(letters.Items) != 3 {
		t.Fatalf("%v: %+v", err, letters)
	}
	at := func(i int) string { return letters.Items[i].Return }
	notice := func(to, final string) []byte {
		return fmt.Appendf(nil, "From: MAILER-DAEMON@mx.example\nTo: %s\nSubject: failure notice\nMessage-ID: <%s>\n\nHi. This is the mail program.\nI'm afraid I wasn't able to deliver your message to the following addresses.\n\n<%s>:\nSorry, no mailbox here by that name. (#5.1.1)\n", to, final, final)
	}
	outcome := func(i int) string {
		t.Helper()
		p, err := api.MailingLetters(ctx, m.ID, "", "")
		if err != nil {
			t.Fatal(err)
		}
		return p.Items[i].Outcome
	}

	t.Run("a bounce from behind a forwarder", func(t *testing.T) {
		if err := handOver(t, door, notice(at(0), "private@elsewhere.example"), at(0)); err != nil {
			t.Fatal(err)
		}
		p, err := api.MailingLetters(ctx, m.ID, "bounced", "")
		if err != nil || len(p.Items) != 1 || p.Items[0].Address != "ada@upperloam.example" || p.Items[0].Final != "private@elsewhere.example" || !p.Items[0].Permanent {
			t.Errorf("%v: %+v", err, p.Items)
		}
	})
	t.Run("a wrong tag", func(t *testing.T) {
		wrong := strings.Replace(at(1), "-2-", "-3-", 1)
		for _, to := range []string{wrong, "b+x@returns.fernhollow.example", "b+1-2-@returns.fernhollow.example", "anybody@returns.fernhollow.example", "b+1-1-aaaaaaaaaaaaaaaa@elsewhere.example"} {
			var told *smtp.SMTPError
			if err := handOver(t, door, notice(to, "wren@orchard.example"), to); !errors.As(err, &told) || told.Code != 550 {
				t.Errorf("%s: %v", to, err)
			}
		}
		// In a file, too.
		taken, err := api.ImportBounces(ctx, bytes.NewReader(notice(wrong, "wren@orchard.example")))
		if err != nil || taken.Forged != 1 || taken.Bounced != 0 || outcome(1) != "open" {
			t.Errorf("%v: %+v, %s", err, taken, outcome(1))
		}
	})
	t.Run("another address than the tag's", func(t *testing.T) {
		// Whoever has a letter can tell of that one alone.
		if err := handOver(t, door, notice(at(0), "wren@orchard.example"), at(0)); err != nil {
			t.Fatal(err)
		}
		if outcome(1) != "open" {
			t.Errorf("it is %s", outcome(1))
		}
	})
	t.Run("of another workspace", func(t *testing.T) {
		key, err := testkit.Command(s.Env, "key", "new", "-workspace", "the neighbours").Output()
		if err != nil {
			t.Fatal(err)
		}
		other := client.New(s.URL, strings.TrimSpace(string(key)))
		taken, err := other.ImportBounces(ctx, bytes.NewReader(notice(at(1), "wren@orchard.example")))
		if err != nil || taken.Bounced != 0 || taken.Nobody != 1 || outcome(1) != "open" {
			t.Errorf("%v: %+v, %s", err, taken, outcome(1))
		}
	})
	t.Run("in masses", func(t *testing.T) {
		forgeMany(t, door, 2000)
		for n := range 60 {
			if err := handOver(t, door, notice(at(2), fmt.Sprintf("linnea%d@attic.example", n)), at(2)); err != nil {
				t.Fatal(err)
			}
		}
		p, err := api.Bounces(ctx, "")
		if err != nil || len(p.Items) > 60 {
			t.Errorf("%v: %d messages are kept", err, len(p.Items))
		}
		if outcome(1) != "open" {
			t.Errorf("it is %s", outcome(1))
		}
	})
}

// forgeMany asks the door about made-up return addresses, many in a session.
func forgeMany(t *testing.T, door string, n int) {
	t.Helper()
	for n > 0 {
		conn, err := net.Dial("tcp", door)
		if err != nil {
			t.Fatal(err)
		}
		c := smtp.NewClientLMTP(conn)
		if err := c.Hello("mx.fernhollow.example"); err != nil {
			t.Fatal(err)
		}
		if err := c.Mail("", nil); err != nil {
			t.Fatal(err)
		}
		for range 500 {
			n--
			var told *smtp.SMTPError
			if err := c.Rcpt(fmt.Sprintf("b+1-2-%016d@returns.fernhollow.example", n), nil); !errors.As(err, &told) || told.Code != 550 {
				t.Fatalf("%v", err)
			}
		}
		_ = c.Close()
	}
}

// TestSentLater registers a mailing before it is sent: its letters are exported with their
// return addresses, and its watch begins by itself with the first message that comes back.
func TestSentLater(t *testing.T) {
	t.Parallel()
	i, door := testkit.World(t, "fernhollow"), "127.0.0.1:"+testkit.FreePort(t)
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_RETURNS=lmtp://"+door, "VARNET_RETURNS_DOMAIN=returns.fernhollow.example"))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	_, run := verified(t, api, i.World, 60)
	m, err := api.RegisterMailing(ctx, contract.NewMailing{Name: "Spring letter", RunID: run.ID, SendLater: true})
	if err != nil {
		t.Fatal(err)
	}
	state := func(want string) {
		t.Helper()
		eventually(t, 20*time.Second, func() (bool, string) {
			if m, err = api.Mailing(ctx, m.ID); err != nil {
				t.Fatal(err)
			}
			return m.State == want, m.State
		})
	}
	state("exported")
	var file bytes.Buffer
	if err := api.ExportMailing(ctx, m.ID, &file); err != nil {
		t.Fatal(err)
	}
	records, err := csv.NewReader(&file).ReadAll()
	if err != nil || len(records) != int(m.Letters)+1 || m.Letters < 10 {
		t.Fatalf("%v: %d lines of %d letters", err, len(records), m.Letters)
	}
	address, back := records[3][0], records[3][1]
	if err := handOver(t, door, returned(address), back); err != nil {
		t.Fatal(err)
	}
	state("watching")
	if got := bouncedOf(t, api, m.ID); !slices.Equal(got, []string{address}) || time.Since(m.SentAt) > time.Minute {
		t.Errorf("%v bounced, and not %s; sent %v", got, address, m.SentAt)
	}
	if _, err := api.SendMailing(ctx, m.ID); status(err) != http.StatusConflict {
		t.Errorf("sent twice: %v", err)
	}
	other, err := api.RegisterMailing(ctx, contract.NewMailing{Name: "Autumn letter", RunID: run.ID, SendLater: true})
	if err != nil {
		t.Fatal(err)
	}
	m = other
	state("exported")
	if m, err = api.SendMailing(ctx, m.ID); err != nil || m.State != "watching" {
		t.Errorf("%v: %+v", err, m)
	}
}

// cameBack is a mailbox file with what came back of the only mailing, and how many messages are in it.
func cameBack(t *testing.T, api *client.Client, w *practice.World) (file string, messages int) {
	t.Helper()
	m, err := api.Mailings(t.Context(), 0)
	if err != nil || len(m.Items) != 1 {
		t.Fatalf("%v: %+v", err, m)
	}
	answers := w.ComesBack(posted(t, api, m.Items[0]), false)
	file = filepath.Join(t.TempDir(), "returned.mbox")
	if err := os.WriteFile(file, mailbox(t, answers).Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	return file, len(answers)
}

// TestBouncesPage goes the way of a list manager: the kept rows were sent, the mailing is
// registered, what came back is taken in on the page Bounces, the mailing is looked at, and
// the evidence of an address that bounced.
func TestBouncesPage(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	_, run := verified(t, api, i.World, 600)
	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("sign in", browser.SignIn(s.URL))
	do("nothing is there yet", chromedp.Navigate(s.URL+"/bounces"), browser.Text("No mailing is registered yet"))
	do("the mailing is registered", chromedp.Navigate(fmt.Sprintf("%s/runs/%d/export", s.URL, run.ID)), browser.Click("details.register summary"),
		browser.Click("details.register label:nth-child(2) input"), click("Register the mailing"), browser.Text("are still watched"))
	file, messages := cameBack(t, api, i.World)
	do("what came back is taken in", chromedp.Navigate(s.URL+"/bounces"), browser.Text("are still watched"), browser.Upload("input[type=file]", file),
		browser.Text(fmt.Sprintf("%d messages read", messages)), browser.Text("bounced for good"), browser.Text("What came back last"))
	do("the mailing shows its letters", browser.Press("members.csv"), browser.Text("What had been found, and what became of it"), browser.Text("More letters"))
	bounced, err := api.AllResults(t.Context(), run.ID, url.Values{"cause": {string(finding.MailboxBounced)}})
	if err != nil || len(bounced) == 0 {
		t.Fatalf("%v: %d bounced", err, len(bounced))
	}
	table := filepath.Join(t.TempDir(), "report.csv")
	if err := os.WriteFile(table, []byte("Adresse;Ergebnis;Grund\nada@upperloam.example;weg;550 5.1.1 user unknown\nwren@orchard.example;weg;\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	do("what a sending tool says is imported", chromedp.Navigate(s.URL+"/bounces"), browser.Press("Import a table of a sending tool"), browser.Text("Choose the table"), browser.Upload("input[type=file]", table),
		browser.Text("What became of the letter"), pick("What became of the letter", "Ergebnis"), browser.Text("What its words mean"), pick("weg", "bounced"), click("Import the table"), browser.Text("2 messages read"))
	do("what bounced is told with its evidence", chromedp.Navigate(fmt.Sprintf("%s/runs/%d/results?cause=mailbox.bounced&address=%d", s.URL, run.ID, bounced[0].Ordinal)),
		browser.Text("Bounced before"), browser.Text("A letter to it"), browser.Text("came back for good"))
}

// TestOutcomeTable takes in tables of a sending tool: what its words mean is told once, and
// kept for the next table with the same columns.
func TestOutcomeTable(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	m, err := api.ImportMailing(ctx, client.MailingTable{Name: "Members"}, strings.NewReader("email\nada@upperloam.example\nwren@orchard.example\nlinnea@attic.example\njonas@attic.example\nmerrin@orchard.example\n"))
	if err != nil {
		t.Fatal(err)
	}
	taken, err := api.ImportOutcomes(ctx, map[string]int{"outcome": 2}, map[string]string{"weg": "bounced"},
		strings.NewReader("Adresse;Ergebnis;Reason;Date\nada@upperloam.example;weg;550 5.1.1 user unknown;2026-03-17\nwren@orchard.example;weg;552 5.2.2 mailbox full;2026-03-17\nnobody@orchard.example;weg;;\nlinnea@attic.example;Beschwerde;;\n"))
	if err != nil || taken.Messages != 4 || taken.Bounced != 1 || taken.Passing != 1 || taken.Complained != 1 || taken.Nobody != 1 {
		t.Errorf("%v: %+v", err, taken)
	}
	taken, err = api.ImportOutcomes(ctx, nil, nil, strings.NewReader("Adresse;Ergebnis;Reason;Date\njonas@attic.example;weg;;2026-03-18\nada@upperloam.example;weg;550 5.1.1 user unknown;2026-03-17\nmerrin@orchard.example;zugestellt;;\n"))
	if err != nil || taken.Bounced != 1 || taken.Known != 1 || taken.Others != 1 {
		t.Errorf("the mapping is not kept: %v: %+v", err, taken)
	}
	for address, want := range map[string]string{"ada@upperloam.example": "bounced", "wren@orchard.example": "bounced", "linnea@attic.example": "complained", "jonas@attic.example": "bounced", "merrin@orchard.example": "open"} {
		p, err := api.MailingLetters(ctx, m.ID, "", "")
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range p.Items {
			if l.Address == address && l.Outcome != want {
				t.Errorf("%s is %s, want %s", address, l.Outcome, want)
			}
		}
	}
	for _, bad := range []map[string]int{{"outcome": 9}, {"address": 7}} {
		if _, err := api.ImportOutcomes(ctx, bad, nil, strings.NewReader("a,b\nada@upperloam.example,x\n")); status(err) != http.StatusUnprocessableEntity && status(err) != http.StatusBadRequest {
			t.Errorf("%v: %v", bad, err)
		}
	}
	if _, err := api.ImportOutcomes(ctx, nil, map[string]string{"weg": "gone"}, strings.NewReader("a,b\nada@upperloam.example,x\n")); status(err) != http.StatusUnprocessableEntity {
		t.Errorf("a meaning that there is not: %v", err)
	}
}

// TestBouncesAtTheEndOfTheWatch: what comes back just as the watch of a mailing ends is told all the same,
// however both fall together.
func TestBouncesAtTheEndOfTheWatch(t *testing.T) {
	t.Parallel()
	i, clock := testkit.World(t, "fernhollow"), newCalendar(t)
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clock.file))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	var addresses []string
	for n := range 3000 {
		addresses = append(addresses, fmt.Sprintf("%s@sundial-nursery.example", practice.Local(n)))
	}
	m, err := api.ImportMailing(ctx, client.MailingTable{Name: "Spring letter"}, strings.NewReader("address\n"+strings.Join(addresses, "\n")))
	if err != nil {
		t.Fatal(err)
	}
	clock.set(73 * time.Hour)
	for from := 0; from < len(addresses); from += 500 {
		table := "address,outcome\n" + strings.Join(addresses[from:from+500], ",bounced\n") + ",bounced\n"
		if told, err := api.ImportOutcomes(ctx, map[string]int{"address": 1, "outcome": 2}, map[string]string{"bounced": "bounced"}, strings.NewReader(table)); err != nil || told.Bounced != 500 {
			t.Fatalf("%v: %+v", err, told)
		}
		time.Sleep(time.Second)
	}
	eventually(t, 30*time.Second, func() (bool, string) {
		if m, err = api.Mailing(ctx, m.ID); err != nil {
			t.Fatal(err)
		}
		return m.State == "closed", m.State
	})
	if m.Outcomes.Bounced != 3000 {
		t.Errorf("%d of 3000 letters bounced", m.Outcomes.Bounced)
	}
}

package e2e

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// dumped is all that a database holds as text, with what is kept in bytes read out of its hex form.
func dumped(t *testing.T, dsn string) string {
	t.Helper()
	out, err := exec.Command("pg_dump", "--data-only", dsn).Output()
	if err != nil {
		t.Fatal(err)
	}
	inHex := regexp.MustCompile(`\\\\x([0-9a-f]{2,})`)
	return strings.ToLower(string(inHex.ReplaceAllFunc(out, func(m []byte) []byte {
		b, _ := hex.DecodeString(string(m[3:]))
		return append([]byte(" "), b...)
	})))
}

// near shows where a text stands in another.
func near(text, part string) string {
	at := strings.Index(text, part)
	return text[max(0, at-200):min(len(text), at+200)]
}

// of is all results of a run but those of some addresses.
func resultsBut(t *testing.T, api *client.Client, run int64, but ...string) string {
	t.Helper()
	var b strings.Builder
	for _, r := range allResults(t, api, run) {
		if !slices.Contains(but, strings.ToLower(r.Mailbox)) {
			fmt.Fprintln(&b, r.Ordinal, r.Typed, r.Finding, r.Cause, r.Traits, r.Decision, r.At)
		}
	}
	return b.String()
}

// TestErase erases an address that stands wherever one can: rows, duplicates, other people's rows,
// results, overrides, mailings, what came back, terms. Nothing that is left names it; all else is
// as it was; and it is neither kept nor asked about when it comes again.
func TestErase(t *testing.T) {
	t.Parallel()
	w, err := practice.Load("fernhollow")
	if err != nil {
		t.Fatal(err)
	}
	w.Remember = true
	i := testkit.Practise(t, w)
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	_, content := writeList(t, i.World, 600)
	_, run := startNamed(t, api, "members.csv", content, "mailbox")
	if run, err = api.Wait(ctx, run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	// The person is one whom a host refused, so that there is something to be told.
	jane := ""
	for _, r := range allResults(t, api, run.ID) {
		if r.Cause == finding.MailboxAbsent {
			jane = strings.ToLower(r.Mailbox)
		}
	}
	if jane == "" {
		t.Fatal("no mailbox is absent")
	}
	// A second list names them in another spelling, twice, with a partner whom others share, and in a
	// remark of somebody else.
	second := "name;e-mail;second;remark\n" +
		"Jane;" + strings.ToUpper(jane) + ";firs@fernhollow.example;\"calls \"\"soon\"\"\"\n" +
		"Otto;otto.reed@fernhollow.example;;knows <" + jane + "> well\n" +
		"Fir family;firs@fernhollow.example;;\n" +
		"Jane again;mailto:" + jane + ";jane.private@fernhollow.example;x\n" +
		"Rosa;rosa.elm@fernhollow.example;;\n"
	guests, guestRun := startNamed(t, api, "guests.csv", []byte(second), "mailbox")
	if guestRun, err = api.Wait(ctx, guestRun.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	if _, err := api.Override(ctx, guests.ID, contract.Override{Mailboxes: []string{strings.ToUpper(jane)}, Decision: "keep"}); err != nil {
		t.Fatal(err)
	}
	m, err := api.RegisterMailing(ctx, contract.NewMailing{Name: "Autumn letter", RunID: guestRun.ID})
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, 20*time.Second, func() (bool, string) {
		m, err = api.Mailing(ctx, m.ID)
		return err == nil && m.State == "watching", fmt.Sprint(m.State, err)
	})
	bounce := "From: MAILER-DAEMON@mx.fernhollow.example\nTo: returns@fernhollow.example\nSubject: Undelivered: " + jane + "\nMIME-Version: 1.0\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\n\n--b\nContent-Type: text/plain\n\nSorry.\n--b\nContent-Type: message/delivery-status\n\nReporting-MTA: dns; mx.fernhollow.example\n\nFinal-Recipient: rfc822; " + jane + "\nAction: failed\nStatus: 5.1.1\nDiagnostic-Code: smtp; 550 5.1.1 <" + jane + ">: no such mailbox\n\n--b--\n"
	if _, err := api.ImportBounces(ctx, strings.NewReader("From MAILER-DAEMON Sat Nov 28 10:00:00 2026\n"+bounce)); err != nil {
		t.Fatal(err)
	}
	if _, err := api.SaveTermList(ctx, contract.NewTermList{Name: "Not to be written to", Terms: []string{jane, "otto.reed@fernhollow.example"}}); err != nil {
		t.Fatal(err)
	}
	before, guestsBefore := resultsBut(t, api, run.ID, jane), resultsBut(t, api, guestRun.ID, jane, "jane.private@fernhollow.example")

	held, err := api.LookAtAddress(ctx, " "+jane)
	if err != nil {
		t.Fatal(err)
	}
	if len(held.Lists) != 2 || held.Lists[1].RowsAll != 3 || held.Lists[1].Override != "keep" || len(held.Lists[1].Results) != 1 || held.Lists[0].Results[0].Finding != finding.Undeliverable ||
		len(held.Lists[0].Results[0].Said) == 0 || len(held.Letters) != 1 || held.Letters[0].Outcome != "bounced" || held.Outcome == nil || len(held.Elsewhere) == 0 || held.ErasedAt != nil {
		text, _ := json.MarshalIndent(held, "", " ")
		t.Errorf("held: %s", text)
	}
	if others := held.Lists[1].Rows[1]; others.Own || len(others.Cells) != 1 || others.Cells[0].Column != "remark" {
		t.Errorf("the row of somebody else is told: %+v", others)
	}
	var file bytes.Buffer
	if err := api.RightsFile(ctx, jane, "text", &file); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"What ", "members.csv", "guests.csv", "undeliverable", "Autumn letter", jane} {
		if !strings.Contains(file.String(), want) {
			t.Errorf("the file for the person lacks %q:\n%s", want, file.String())
		}
	}
	if strings.Contains(file.String(), "Otto") || strings.Contains(file.String(), "knows") {
		t.Errorf("the file for the person has what is of others:\n%s", file.String())
	}

	r, err := api.MakeRequest(ctx, contract.RightsOrder{Address: jane, Kind: "erase"})
	if err != nil || r.State != "done" {
		t.Fatalf("%+v, %v", r, err)
	}
	if !strings.Contains(r.Says, "rows of 2 lists are blank") {
		t.Errorf("it says: %s", r.Says)
	}
	dsn := s.Setting("VARNET_DSN")
	gone := func(when string) {
		t.Helper()
		for name, text := range map[string]string{"the database": dumped(t, dsn), "the log": strings.ToLower(s.Log())} {
			if strings.Contains(text, jane) {
				t.Errorf("%s: %s names the address: %q", when, name, near(text, jane))
			}
		}
	}
	gone("after erasing")
	backup, elsewhere := filepath.Join(t.TempDir(), "backup"), testkit.Database(t)
	for _, args := range [][]string{{"backup", "-out", backup}, {"restore", "-in", backup, "-dsn", elsewhere}} {
		if out, err := testkit.Command(s.Env, args...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", args, out)
		}
	}
	if text := dumped(t, elsewhere); strings.Contains(text, jane) || !strings.Contains(text, "rosa.elm@") {
		t.Errorf("a backup made afterwards names the address")
	}

	// All else is as it was.
	if now := resultsBut(t, api, run.ID); now != before {
		t.Error("results of others changed")
	}
	if now := resultsBut(t, api, guestRun.ID); now != guestsBefore {
		t.Errorf("results of others changed: %s\n%s", guestsBefore, now)
	}
	for _, r := range []int64{run.ID, guestRun.ID} {
		now, err := api.Run(ctx, r)
		if err != nil {
			t.Fatal(err)
		}
		counted(t, api, now, allResults(t, api, r))
	}
	var exported bytes.Buffer
	if err := api.ExportFile(ctx, guestRun.ID, contract.ExportChoice{Decision: "all"}, &exported); err != nil {
		t.Fatal(err)
	}
	want := "Fir family;firs@fernhollow.example;;\n"
	if !strings.Contains(exported.String(), want) || !strings.Contains(exported.String(), "knows <(erased)> well") {
		t.Errorf("the file of all rows:\n%s", exported.String())
	}

	// It comes again: with a file, a newer file, a check, a mailing.
	again, err := api.Import(ctx, client.File{Name: "again.csv", Body: strings.NewReader(second)})
	if err != nil {
		t.Fatal(err)
	}
	if again.Erased != 2 || !strings.Contains(again.Sentence, "2 rows are blank because their persons asked") {
		t.Errorf("imported again: %+v", again)
	}
	begun := time.Now()
	runOf(t, api, again.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	checked, err := api.Check(ctx, []string{jane})
	if err != nil || checked[0].Cause != finding.RuleErased || checked[0].Finding != finding.Undecided {
		t.Errorf("a check of it: %+v, %v", checked, err)
	}
	if _, err := api.ImportBounces(ctx, strings.NewReader("From MAILER-DAEMON Sun Nov 29 10:00:00 2026\n"+strings.Replace(bounce, "Sorry.", "Sorry again.", 1))); err != nil {
		t.Fatal(err)
	}
	if _, err := api.ImportMailing(ctx, client.MailingTable{Name: "Sent elsewhere"}, strings.NewReader("e-mail\n"+jane+"\nrosa.elm@fernhollow.example\n")); err != nil {
		t.Fatal(err)
	}
	gone("after it came again")
	for _, h := range i.Hosts() {
		if at := h.LastAsked()[jane]; at.After(begun) {
			t.Errorf("%s was asked about it", h.Name)
		}
	}

	// The person changes their mind.
	if _, err := api.MakeRequest(ctx, contract.RightsOrder{Address: jane, Kind: "allow"}); err != nil {
		t.Fatal(err)
	}
	if _, err := api.MakeRequest(ctx, contract.RightsOrder{Address: jane, Kind: "allow"}); err == nil || !strings.Contains(err.Error(), "was not erased") {
		t.Errorf("allowed twice: %v", err)
	}
	back, err := api.Import(ctx, client.File{Name: "back.csv", Body: strings.NewReader(second)})
	if err != nil || back.Erased != 0 || back.Addresses != guests.Addresses {
		t.Errorf("allowed again: %+v, %v", back, err)
	}
}

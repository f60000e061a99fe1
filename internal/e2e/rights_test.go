package e2e

import (
	"archive/zip"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"varnet/core/finding"
	"varnet/internal/browser"
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
	backup, elsewhere := filepath.Join(t.TempDir(), "backup"), testkit.EmptyDatabase(t)
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

// TestMove moves a workspace to an empty installation, where it is equal: list by list, run by run,
// file by file, and what was erased stays erased.
func TestMove(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.SignIn(t)), t.Context()
	l, run := verified(t, api, i.World, 800)
	if _, err := api.AddToCatalogue(ctx, []contract.CatalogueEntry{{Kind: "disposable", Name: "mailmeadow.example"}}); err != nil {
		t.Fatal(err)
	}
	newer, err := api.Import(ctx, client.File{Name: "newer.csv", Body: strings.NewReader("e-mail\nnew.one@postbarn.example\n"), Again: l.ID, Mode: "append"})
	if err != nil {
		t.Fatal(err)
	}
	later := runOf(t, api, newer.ID, contract.NewRun{Depth: "mailbox", Policy: "careful", ReuseDays: 30})
	all := allResults(t, api, run.ID)
	if _, err := api.Override(ctx, l.ID, contract.Override{Ordinals: []int32{all[0].Ordinal}, Decision: "drop"}); err != nil {
		t.Fatal(err)
	}
	gone := strings.ToLower(all[5].Mailbox)
	if _, err := api.MakeRequest(ctx, contract.RightsOrder{Address: gone, Kind: "erase"}); err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	file := filepath.Join(folder, "library.zip")
	out, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(api.ExportWorkspace(ctx, out), out.Close()); err != nil {
		t.Fatal(err)
	}
	readable(t, api, file, run)

	empty := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_SECRET=another secret of another installation"))
	if out, err := testkit.Command(empty.Env, "team", "import", file, "-owner", "nobody@fernhollow.example").CombinedOutput(); err == nil || !strings.Contains(string(out), "nobody here has the address") {
		t.Errorf("for nobody: %s", out)
	}
	said, err := testkit.Command(empty.Env, "team", "import", file, "-owner", testkit.Person).CombinedOutput()
	if err != nil || !strings.Contains(string(said), "2 lists and 2 runs") {
		t.Fatalf("%s, %v", said, err)
	}
	if out, err := testkit.Command(empty.Env, "team", "import", file, "-owner", testkit.Person).CombinedOutput(); err == nil || !strings.Contains(string(out), "the installation is not empty") {
		t.Errorf("moved in twice: %s", out)
	}
	there := client.New(empty.URL, empty.SignIn(t))
	in, err := there.Session(ctx)
	if err != nil {
		t.Fatal(err)
	}
	moved := in.Workspaces[slices.IndexFunc(in.Workspaces, func(m contract.Membership) bool {
		return strings.Contains(string(said), fmt.Sprintf("workspace %d ", m.ID))
	})]
	if _, err := there.EnterWorkspace(ctx, moved.ID); err != nil {
		t.Fatal(err)
	}
	sameLists(t, api, there)
	for _, r := range []contract.Run{run, later} {
		sameRun(t, api, there, r.ID)
	}
	again, err := there.Import(ctx, client.File{Name: "again.csv", Body: strings.NewReader("e-mail\n" + gone + "\nrosa.elm@fernhollow.example\n")})
	if err != nil || again.Erased != 1 || again.ID <= newer.ID {
		t.Errorf("what was erased comes again: %+v, %v", again, err)
	}
	// An absent mailbox is remembered there, too, by the secret of there.
	for _, r := range all {
		if r.Cause == finding.MailboxAbsent && strings.ToLower(r.Mailbox) != gone {
			held, err := there.LookAtAddress(ctx, r.Mailbox)
			if err != nil || len(held.Lists) != 2 {
				t.Errorf("%s is held there: %+v, %v", r.Mailbox, held, err)
			}
			break
		}
	}
}

// readable looks at the files for people.
func readable(t *testing.T, api *client.Client, file string, run contract.Run) {
	t.Helper()
	z, err := zip.OpenReader(file)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	var names []string
	for _, f := range z.File {
		names = append(names, f.Name)
		if !strings.HasSuffix(f.Name, fmt.Sprintf("run %d.csv", run.ID)) {
			continue
		}
		in, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		content, err := io.ReadAll(in)
		if err != nil || !bytes.Equal(content, exportedAs(t, api, run.ID, contract.ExportChoice{Decision: "all", Form: "results", Format: "spreadsheet"})) {
			t.Errorf("%s is not the file of the run, %v", f.Name, err)
		}
	}
	for _, want := range []string{"README.txt", "workspace.json", "audit.jsonl", "records/batch.jsonl", "lists/1 members.csv/members.csv"} {
		if !slices.Contains(names, want) {
			t.Errorf("%s is not among %v", want, names)
		}
	}
}

func exportedAs(t *testing.T, api *client.Client, run int64, how contract.ExportChoice) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := api.ExportFile(t.Context(), run, how, &b); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// sameLists holds the lists of two installations against each other.
func sameLists(t *testing.T, here, there *client.Client) {
	t.Helper()
	lists := func(api *client.Client) string {
		l, err := api.Lists(t.Context(), contract.ListQuery{})
		if err != nil {
			t.Fatal(err)
		}
		text, _ := json.Marshal(l)
		return string(text)
	}
	if a, b := lists(here), lists(there); a != b {
		t.Errorf("lists here\n%s\nand there\n%s", a, b)
	}
}

// sameRun holds a run against the same one there: its counts, results, evidence and every file.
func sameRun(t *testing.T, here, there *client.Client, id int64) {
	t.Helper()
	ctx := t.Context()
	told := func(api *client.Client) string {
		r, err := api.Run(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		r.PerMinute = 0 // of this minute
		text, _ := json.Marshal(r)
		evidence, err := api.Evidence(ctx, id, allResults(t, api, id)[3].Ordinal)
		if err != nil {
			t.Fatal(err)
		}
		asked, _ := json.Marshal(evidence)
		return string(text) + "\n" + string(asked) + "\n" + resultsBut(t, api, id)
	}
	if a, b := told(here), told(there); a != b {
		t.Errorf("run %d here\n%.3000s\nand there\n%.3000s", id, a, b)
	}
	for _, how := range []contract.ExportChoice{{}, {Decision: "all"}, {Decision: "all", Form: "results", Columns: []string{"finding", "cause", "odds", "reply", "checked", "reason"}}, {Decision: "drop", Form: "suppression", Format: "txt"}} {
		if !bytes.Equal(exportedAs(t, here, id, how), exportedAs(t, there, id, how)) {
			t.Errorf("the file of run %d as %+v is another", id, how)
		}
	}
}

// TestDeleteWorkspace: a workspace is deleted 7 days after an owner ordered it, unless it is stopped;
// its people are told, and nothing of it is left.
func TestDeleteWorkspace(t *testing.T) {
	t.Parallel()
	i, clockFile := testkit.World(t, "fernhollow"), filepath.Join(t.TempDir(), "clock")
	ahead := func(by string) {
		t.Helper()
		if err := os.WriteFile(clockFile, []byte(by), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	ahead("0s")
	s := testkit.Serve(t, append(testkit.Settings(testkit.Database(t), i), "VARNET_CLOCK="+clockFile))
	box := letterbox(t, i, s)
	api, ctx := client.New(s.URL, s.SignIn(t)), t.Context()
	of, err := api.Session(ctx)
	if err != nil {
		t.Fatal(err)
	}
	startNamed(t, api, "members.csv", []byte("e-mail\nrosa.elm@fernhollow.example\n"), "mailbox")
	if _, err := api.MakeRequest(ctx, contract.RightsOrder{Address: "jane.fir@fernhollow.example", Kind: "erase"}); err != nil {
		t.Fatal(err)
	}
	if err := api.KeepWorkspace(ctx); err == nil || !strings.Contains(err.Error(), "not about to be deleted") {
		t.Errorf("kept without need: %v", err)
	}
	if err := api.DeleteWorkspace(ctx, "another"); err == nil {
		t.Error("deleted by another's name")
	}
	if err := api.DeleteWorkspace(ctx, of.Workspace); err != nil {
		t.Fatal(err)
	}
	team, err := api.Team(ctx)
	if err != nil || team.DeleteAt == nil || team.DeleteBy == "" {
		t.Fatalf("%+v, %v", team, err)
	}
	eventually(t, 20*time.Second, func() (bool, string) {
		for _, l := range box.Letters("") {
			if strings.Contains(l.Subject, "will be deleted in 7 days") {
				return true, ""
			}
		}
		return false, "no letter tells that the workspace will be deleted"
	})
	if err := api.KeepWorkspace(ctx); err != nil {
		t.Fatal(err)
	}
	ahead("192h")
	time.Sleep(8 * time.Second) // what goes by the calendar is looked at every five
	if _, err := api.Lists(ctx, contract.ListQuery{}); err != nil {
		t.Fatalf("it was stopped, and yet: %v", err)
	}
	if err := api.DeleteWorkspace(ctx, of.Workspace); err != nil {
		t.Fatal(err)
	}
	ahead("400h")
	eventually(t, 30*time.Second, func() (bool, string) {
		_, err := api.Lists(ctx, contract.ListQuery{})
		return err != nil, "it is still there"
	})
	db, err := pgx.Connect(ctx, s.Setting("VARNET_DSN"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	rows, err := db.Query(ctx, `SELECT table_name::text, column_name::text FROM information_schema.columns WHERE table_schema = 'public' AND column_name IN ('workspace_id', 'list_id')
		AND table_name IN (SELECT table_name FROM information_schema.tables WHERE table_type = 'BASE TABLE')`)
	if err != nil {
		t.Fatal(err)
	}
	tables, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (at [2]string, err error) { return at, row.Scan(&at[0], &at[1]) })
	if err != nil || len(tables) < 30 {
		t.Fatal(tables, err)
	}
	for _, at := range tables {
		name := at[0]
		if name == "audit" { // the trail tells what was done for as long as it is kept
			continue
		}
		eventually(t, 10*time.Second, func() (bool, string) {
			n := 0
			if err := db.QueryRow(ctx, "SELECT count(*) FROM "+name+" WHERE "+at[1]+" = 1").Scan(&n); err != nil {
				t.Fatal(err)
			}
			return n == 0, fmt.Sprintf("%d records are left in %s", n, name)
		})
	}
}

// TestEraseMeanwhile erases an address while a run asks about its list and another file with it comes
// in: the erasure waits for what has it in hand, and the run comes to its end without it.
func TestEraseMeanwhile(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	_, content := writeList(t, i.World, 3000)
	lines := strings.Split(string(content), "\n")
	l, run := startNamed(t, api, "members.csv", content, "mailbox")
	waitForTheMiddle(t, api, run.ID)
	var gone []string
	for n := 40; len(gone) < 12; n += 97 {
		fields := strings.Split(lines[n], ",")
		for _, f := range fields {
			if strings.Count(f, "@") == 1 && !strings.ContainsAny(f, " <>\"") {
				gone = append(gone, strings.ToLower(f))
			}
		}
	}
	imported := make(chan error, 1)
	go func() {
		_, err := api.Import(ctx, client.File{Name: "beside.csv", Body: bytes.NewReader(content)})
		imported <- err
	}()
	for _, address := range gone {
		if _, err := api.MakeRequest(ctx, contract.RightsOrder{Address: address, Kind: "erase"}); err != nil {
			t.Fatal(err)
		}
	}
	if err := <-imported; err != nil {
		t.Fatal(err)
	}
	run, err := api.Wait(ctx, run.ID, func(contract.Run) {})
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, time.Minute, func() (bool, string) {
		p, err := api.Requests(ctx)
		for _, r := range p.Items {
			if r.State != "done" {
				return false, r.Says
			}
		}
		return err == nil && len(p.Items) == len(gone), fmt.Sprint(len(p.Items), err)
	})
	text := dumped(t, s.Setting("VARNET_DSN"))
	for _, address := range gone {
		if strings.Contains(text, address) {
			t.Errorf("%s is still there: %q", address, near(text, address))
		}
	}
	l, err = api.List(ctx, l.ID)
	if err != nil || run.Done != run.Addresses || int64(len(allResults(t, api, run.ID))) != l.Addresses+l.Malformed {
		t.Errorf("%d of %d done, %d results for %d addresses and %d that are none, %v", run.Done, run.Addresses, len(allResults(t, api, run.ID)), l.Addresses, l.Malformed, err)
	}
	counted(t, api, run, allResults(t, api, run.ID))
}

// TestRequestsPage looks an address up, saves its file, erases it and allows it again, in the console;
// orders the deletion of the workspace and stops it.
func TestRequestsPage(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	list := "name,e-mail\nRosa Elm,rosa.elm@fernhollow.example\nOtto Reed,otto.reed@postbarn.example\n"
	_, run := startNamed(t, api, "guests.csv", []byte(list), "mailbox")
	if _, err := api.Wait(t.Context(), run.ID, func(contract.Run) {}); err != nil {
		t.Fatal(err)
	}
	do := drive(t, browser.Options{Width: 1280, Height: 800})
	do("sign in", browser.SignIn(s.URL))
	do("look up", browser.Press("Setup"), browser.Press("Requests"), browser.Text("Nobody has made a request yet"),
		browser.Type(`input[aria-label="Address of the person"]`, "Rosa.Elm@fernhollow.example\r"), browser.Text("Held about this address: 1 row of 1 list"), browser.Text("Rosa Elm"))
	do("the address is in no URL", browser.Wait(`!location.href.includes("rosa") && !location.href.includes("Rosa")`))
	do("the file", browser.Press("File for the person"), browser.Text("All that was held about the address was written as a file"))
	do("asked once more", browser.Press("Erase it"), browser.Text("Erase this address?"))
	do("erased", browser.Press("Erase it for good"), browser.Text("It was erased on"), browser.Text("1 row of 1 list"), browser.Text("blank"))
	do("allowed again", browser.Press("Allow it again"), browser.Text("may be kept and asked about again"))
	do("the list", chromedp.Navigate(s.URL+"/lists/1"), browser.Text("1 row is blank because its person asked for the address to be erased"))
	do("the deletion is ordered", chromedp.Navigate(s.URL+"/team"), browser.Click(".settled details summary"), browser.Fill("Type its name", "default"), browser.Press("Delete it in 7 days"), browser.Text("This workspace will be deleted on"))
	do("and stopped", browser.Press("Stop the deletion"), browser.Text("Delete the workspace"), browser.Wait(`!document.querySelector(".ending")`))
	do("a form's key", chromedp.Navigate(s.URL+"/keys"), browser.Type(`input[aria-label="What the key is for"]`, "sign-up form"), pick("What it may do", "read: look at lists, runs, results and settings"), browser.ClickOn(`[...document.querySelectorAll(".ant-select-item-option")].find(o => o.innerText.trim().startsWith("form: ") && o.checkVisibility())`),
		chromedp.KeyEvent("\x1b"), browser.Text("Everybody can read the key of a form"), browser.Wait(`![...document.querySelectorAll(".ant-select-dropdown")].some(d => d.checkVisibility())`))
}

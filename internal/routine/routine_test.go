package routine_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/internal/routine"
	"varnet/internal/store"
	"varnet/internal/store/pack"
)

var made = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

func TestSays(t *testing.T) {
	s := pack.RoutineSpec{Source: "folder", File: "members*.csv", Rule: "FREQ=DAILY", Time: "03:00", Zone: "Europe/Berlin", OnChange: true,
		Ages: map[string]int{"deliverable": 30, "undeliverable": 1}, Policy: "careful", Then: "folder", ThenFile: "kept/{name}-{date}", MostChecks: 5000, MostDropped: 5, Hours: "22:00-06:00", Tell: "always"}
	want := []string{"Every day at 03:00, Europe/Berlin and after each change of its source: reads the newest file called like members*.csv.",
		"Asks about new addresses, deliverable ones after 30 days and undeliverable ones after 1 day, and about undecided ones each time; decides by the policy careful.",
		"Writes the kept rows to kept/{name}-{date}.",
		"A person decides when more than 5,000 addresses would be asked about, or more than 5 % of the addresses kept the time before would be dropped. Verifies between 22:00 and 06:00 alone."}
	if got := routine.Says(s, made, ""); strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s", strings.Join(got, "\n"))
	}
}

// TestWeigh holds the record of a time against moves counted by hand.
func TestWeigh(t *testing.T) {
	verdicts := map[int32]finding.Verdict{1: {Finding: finding.Deliverable, Cause: finding.MailboxAccepted}, 2: {Finding: finding.Undeliverable, Cause: finding.MailboxAbsent},
		3: {Finding: finding.Undecided, Cause: finding.ExchangerUnreachable}}
	r := pack.RoutineRecord{Rows: 210, Addresses: 200, Asked: 60, Reused: 140, Kept: 150, KeptBefore: 160}
	routine.Weigh(&r, store.Moved{Both: 180, Before: 190, Now: 200, Pairs: []store.VerdictPair{{From: 1, To: 1, Addresses: 140}, {From: 1, To: 2, Addresses: 9}, {From: 3, To: 1, Addresses: 21}, {From: 1, To: 3, Addresses: 2}}}, verdicts, policy.Careful())
	if r.Added != 20 || r.Gone != 10 || r.NewlyDropped != 9 || len(r.Changes) != 3 || r.Changes[0] != (pack.RoutineChange{From: "undecided", To: "deliverable", Addresses: 21}) {
		t.Errorf("%+v", r)
	}
	if why := routine.TooMany(pack.RoutineSpec{MostDropped: 5}, r); !strings.Contains(why, "9 of the 160 rows kept the time before") {
		t.Errorf("over 5 %%: %q", why)
	}
	if why := routine.TooMany(pack.RoutineSpec{MostDropped: 6}, r); why != "" {
		t.Errorf("under 6 %%: %q", why)
	}
	want := "210 rows with 200 addresses came, 20 new and 10 gone. 60 addresses were asked about, and 140 results were reused. 150 of 210 rows kept (160 the time before). " +
		"9 addresses kept the time before would be dropped now. Changed: 21 from undecided to deliverable, 9 from deliverable to undeliverable and 2 from deliverable to undecided."
	if got := routine.Sentence(r, false); got != want {
		t.Errorf("%s", got)
	}
}

func TestName(t *testing.T) {
	at := time.Date(2026, 11, 28, 3, 5, 0, 0, time.UTC)
	for pattern, want := range map[string]string{"kept/{name}-{date}": "kept/members-2026-11-28.csv", "{date}-{time}.txt": "2026-11-28-0305.txt", "{name}": "members.csv"} {
		if got := routine.Name(pattern, "members.csv", ".csv", at); got != want {
			t.Errorf("%s: %s", pattern, got)
		}
	}
}

// TestNewest: the newest file of a pattern is read, other than those that the routine wrote.
func TestNewest(t *testing.T) {
	p := routine.Places{Folder: t.TempDir()}
	own := filepath.Join(p.Folder, "7")
	if err := os.Mkdir(own, 0o750); err != nil {
		t.Fatal(err)
	}
	for n, name := range []string{"members-1.csv", "members-2.csv", "members-2-kept.csv", "notes.txt"} {
		file := filepath.Join(own, name)
		if err := os.WriteFile(file, []byte("e-mail\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		at := made.Add(time.Duration(n) * time.Hour)
		if err := os.Chtimes(file, at, at); err != nil {
			t.Fatal(err)
		}
	}
	s := pack.RoutineSpec{Source: "folder", File: "members*.csv", Then: "folder", ThenFile: "{name}-kept"}
	src, err := p.Open(t.Context(), 7, s, "")
	if err != nil || src.Name != "members-2.csv" || src.Unchanged {
		t.Fatalf("%+v, %v", src, err)
	}
	_ = src.Body.Close()
	if again, err := p.Open(t.Context(), 7, s, src.Tag); err != nil || !again.Unchanged {
		t.Errorf("%+v, %v", again, err)
	}
	s.File = "guests*.csv"
	if _, err := p.Open(t.Context(), 7, s, ""); err == nil || !strings.Contains(err.Error(), "called like guests*.csv") {
		t.Error(err)
	}
}

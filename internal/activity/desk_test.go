package activity_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/sheet"
	"varnet/internal/activity"
	"varnet/internal/contract"
	"varnet/internal/intake"
	"varnet/internal/rights"
	"varnet/internal/store"
	"varnet/internal/store/storetest"
	"varnet/internal/testkit"
)

// now is when the tests take place.
var now = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

// room is a desk in a workspace of its own.
type room struct {
	*testing.T
	activity.Desk
	workspace int64
}

func newRoom(t *testing.T) *room {
	t.Helper()
	t.Parallel()
	s := storetest.Open(t)
	s.FingerprintBy(rights.Fingerprints(testkit.Secrets(t)))
	w, err := s.NewWorkspace(t.Context(), "ours")
	if err != nil {
		t.Fatal(err)
	}
	return &room{t, activity.Desk{Store: s, Now: func() time.Time { return now }}, w.ID}
}

// events imports a table of events.
func (r *room) events(file string, c activity.Columns, kind string) (contract.ImportedActivity, error) {
	r.Helper()
	reading, err := intake.Read(r.Context(), strings.NewReader(file), "", sheet.Overrule{})
	if err != nil {
		r.Fatal(err)
	}
	return r.Import(r.Context(), r.workspace, reading, c, kind, "opens.csv")
}

// list imports a list whose columns hold what they are said to.
func (r *room) list(file string, meanings ...sheet.Meaning) store.List {
	r.Helper()
	i := &intake.Importer{Store: r.Store, Grammar: address.Grammar{}, Catalogue: func(context.Context, int64) (*catalogue.Catalogue, error) { return catalogue.Default(), nil },
		Imported: func(context.Context, *store.Store, pgx.Tx, store.List, intake.File) error { return nil }}
	l, err := i.Import(r.Context(), intake.File{Workspace: r.workspace, Name: "members.csv"}, strings.NewReader(file))
	if err != nil {
		r.Fatal(err)
	}
	l.Meanings = meanings
	return l
}

// look returns how many addresses of a list are in each step, as far as there are any.
func (r *room) look(l store.List) (contract.ListActivity, map[string]int64) {
	r.Helper()
	out, err := r.Look(r.Context(), l)
	if err != nil {
		r.Fatal(err)
	}
	steps := map[string]int64{}
	for _, s := range out.Steps {
		if s.Addresses > 0 {
			steps[s.Step] = s.Addresses
		}
	}
	return out, steps
}

const members = "Name,E-mail\nAda,ada@fernhollow.example\nBen,ben@fernhollow.example\nCleo,cleo@fernhollow.example\n"

// TestEvents: columns are found by their names, the last of several events of an address counts, whatever the order, and
// what cannot be read is counted and said.
func TestEvents(t *testing.T) {
	r := newRoom(t)
	l := r.list(members)
	if out, _ := r.look(l); out.Says != "No activity of its addresses is known yet. Import a file of events, or say which columns of the list hold days." {
		t.Errorf("before there is any: %s", out.Says)
	}
	told, err := r.events("When,Who,What\n2026-11-20 10:00,ADA@fernhollow.example,Clicked\n2026-11-01 10:00,ada@fernhollow.example,opened\n2026-07-01T08:00:00Z,ben@fernhollow.example,\n"+
		"3/4/2026,cleo@fernhollow.example,opened\n2026-11-20,nobody,opened\n2027-01-01,cleo@fernhollow.example,opened\n", activity.Columns{}, "read")
	want := "6 events of 2 addresses read; newer activity is known now of 2 addresses. 1 without an address was left out. 1 without a day that can be read (write it as 2026-11-03) was left out. 1 in the future was left out."
	if err != nil || told.Says != want {
		t.Errorf("%v: %s", err, told.Says)
	}
	out, steps := r.look(l)
	if out.Says != "Activity is known for 2 of 3 addresses; 1 was active within 90 days." {
		t.Error(out.Says)
	}
	if steps["30"] != 1 || steps["180"] != 1 || steps["never"] != 1 || len(out.Kinds) != 2 || out.Kinds[0].Kind != "clicked" || out.Kinds[1].Kind != "seen" {
		t.Errorf("steps %v, kinds %v", steps, out.Kinds)
	}
	// What is older than what is known changes nothing.
	if told, err = r.events("date,email\n2026-01-01,ada@fernhollow.example\n2026-11-29,ben@fernhollow.example\n", activity.Columns{}, "signed in"); err != nil || told.Later != 1 {
		t.Errorf("%v: %+v", err, told)
	}
	if _, steps := r.look(l); steps["30"] != 2 || steps["never"] != 1 {
		t.Errorf("steps %v", steps)
	}
}

// TestEventColumns: columns that are named are taken, in the way of writing days that the column has; what is not there is
// told with the remedy.
func TestEventColumns(t *testing.T) {
	r := newRoom(t)
	l := r.list(members)
	told, err := r.events("x,y,z\nada@fernhollow.example,28/11/2026,31/10/2026\nben@fernhollow.example,13/11/2026,30/09/2026\n", activity.Columns{Address: 1, At: 3}, "ordered")
	if err != nil || told.Later != 2 {
		t.Errorf("%v: %+v", err, told)
	}
	if _, steps := r.look(l); steps["30"] != 1 || steps["90"] != 1 {
		t.Errorf("steps %v", steps)
	}
	for _, c := range []struct {
		file    string
		columns activity.Columns
		want    string
	}{
		{"email,day\nada@fernhollow.example,2026-11-01\n", activity.Columns{At: 7}, "there is no column 7; the table has 2 columns"},
		{"email,day\nada@fernhollow.example,2026-11-01\n", activity.Columns{Kind: -1}, "there is no column -1; the table has 2 columns"},
		{"email,name\nada@fernhollow.example,Ada\n", activity.Columns{}, "no column with days was found; choose one"},
		{"day,name\n2026-11-01,Ada\n2026-11-02,Ben\n", activity.Columns{}, "no column with addresses was found; choose one"},
	} {
		var wrong *activity.Wrong
		if _, err := r.events(c.file, c.columns, ""); !errors.As(err, &wrong) || wrong.Why != c.want {
			t.Errorf("%+v: %v", c.columns, err)
		}
	}
	if told, err := r.events("email,day\n", activity.Columns{Address: 1, At: 2}, ""); err != nil || told.Says != "There is no event in it." {
		t.Errorf("%v: %s", err, told.Says)
	}
}

// TestDaysOfAList: columns of a list that hold days are read as they are written there, each as what was seen on them; empty
// cells are nothing.
func TestDaysOfAList(t *testing.T) {
	r := newRoom(t)
	l := r.list("E-mail,last order,last login\nada@fernhollow.example,13.11.2026,2026-11-29\nben@fernhollow.example,28.02.2026,\ncleo@fernhollow.example,,\n",
		sheet.Meaning{Column: 1, Holds: sheet.Activity, Of: "ordered"}, sheet.Meaning{Column: 2, Holds: sheet.Activity, Of: "signed in"}, sheet.Meaning{Column: 0, Holds: sheet.FirstName})
	if err := r.ReadList(r.Context(), l); err != nil {
		t.Fatal(err)
	}
	out, steps := r.look(l)
	if steps["30"] != 1 || steps["365"] != 1 || steps["never"] != 1 || len(out.Kinds) != 2 || out.Kinds[0].Kind != "ordered" || out.Kinds[1].Kind != "signed in" {
		t.Errorf("steps %v, kinds %v", steps, out.Kinds)
	}
}

// TestManyEvents: a file of more addresses than are kept at once is read whole, and words of the file are kept fit to be shown.
func TestManyEvents(t *testing.T) {
	r := newRoom(t)
	var file strings.Builder
	file.WriteString("email,date,event\n")
	for n := range 6000 {
		file.WriteString("p" + strings.Repeat("x", n%3) + string(rune('a'+n%26)) + time.Duration(n).String() + "@fernhollow.example,2026-11-20,\"op\x07ened" + strings.Repeat("é", 300) + "\"\n")
	}
	told, err := r.events(file.String(), activity.Columns{}, "")
	if err != nil || told.Events != 6000 || told.Addresses != told.Later || told.Addresses < 5900 {
		t.Errorf("%v: %+v", err, told)
	}
	var longest int
	var odd int64
	err = r.Store.Pool().QueryRow(r.Context(), "SELECT max(octet_length(kind)), count(*) FILTER (WHERE kind ~ '[[:cntrl:]]') FROM activity").Scan(&longest, &odd)
	if err != nil || longest > sheet.MostOf || odd > 0 {
		t.Errorf("%v: a word of %d bytes, %d with control characters", err, longest, odd)
	}
}

// TestAddressesThatComeBack: in a large file an address counts once, however far apart its events stand, and whether they go
// forward in time or back.
func TestAddressesThatComeBack(t *testing.T) {
	days := []string{"2026-11-18", "2026-11-20", "2026-11-19"}
	r := newRoom(t)
	var file strings.Builder
	file.WriteString("email,date\n")
	for _, day := range days {
		for n := range 6000 {
			fmt.Fprintf(&file, "p%d@fernhollow.example,%s\n", n, day)
		}
	}
	told, err := r.events(file.String(), activity.Columns{}, "")
	if err != nil || told.Events != 18_000 || told.Addresses != 6000 || told.Later != 6000 {
		t.Errorf("%v: %+v", err, told)
	}
	told, err = r.events("email,date\np1@fernhollow.example,2026-11-21\np2@fernhollow.example,2026-11-01\np1@fernhollow.example,2026-11-22\n", activity.Columns{}, "")
	if err != nil || told.Addresses != 2 || told.Later != 1 {
		t.Errorf("a second file: %v: %+v", err, told)
	}
}

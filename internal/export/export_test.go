package export_test

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"varnet/core/policy"
	"varnet/internal/contract"
	"varnet/internal/decide"
	"varnet/internal/decide/decidetest"
	"varnet/internal/export"
)

// exported makes an export of the members and its file.
func exported(t *testing.T, s *decidetest.Source, o contract.ExportChoice) (*export.Export, string) {
	t.Helper()
	if o.Decision == "" {
		o.Decision = "keep"
	}
	if o.Form == "" {
		o.Form = "rows"
	}
	if o.Format == "" {
		o.Format = "original"
	}
	d, err := decide.New(t.Context(), s, s.Run, s.List, policy.Careful())
	if err != nil {
		t.Fatal(err)
	}
	e, err := export.New(t.Context(), s, d, o)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := e.Write(t.Context(), new(decide.Memory), &b); err != nil {
		t.Fatal(err)
	}
	return e, b.String()
}

// whole is the list as it was imported.
func whole(s *decidetest.Source) string {
	text := string(s.List.Header)
	for _, r := range s.Rows {
		text += strings.Join(r.Cells, ",") + "\n"
	}
	return text
}

// TestEveryRowGoesToOneDecision: the files of the three decisions hold every row once, as
// it stood, and as many as was said before.
func TestEveryRowGoesToOneDecision(t *testing.T) {
	s := decidetest.Members(300)
	lines := map[string]int{}
	for _, l := range strings.SplitAfter(whole(s), "\n")[1:] {
		lines[l]++
	}
	for _, decision := range policy.Decisions() {
		e, file := exported(t, s, contract.ExportChoice{Decision: string(decision)})
		tally, err := e.Tally(t.Context(), new(decide.Memory))
		if err != nil {
			t.Fatal(err)
		}
		header, rows, _ := strings.Cut(file, "\n")
		if header+"\n" != string(s.List.Header) {
			t.Errorf("%s: header %q", decision, header)
		}
		n := int64(0)
		for l := range strings.SplitAfterSeq(rows, "\n") {
			if l != "" {
				lines[l]--
				n++
			}
		}
		if said := e.Rows(tally); n != said || !strings.Contains(e.Sentence(tally), fmt.Sprint(n, " of 300 rows")) {
			t.Errorf("%s: %d rows, %d were said: %s", decision, n, said, e.Sentence(tally))
		}
		if want := "members-" + string(decision) + ".csv"; e.FileName() != want {
			t.Errorf("%s is called %s", want, e.FileName())
		}
	}
	for l, n := range lines {
		if n != 0 && l != "" {
			t.Errorf("%q is missing %d times", l, n)
		}
	}
	if _, file := exported(t, s, contract.ExportChoice{Decision: "all"}); file != whole(s) {
		t.Error("all rows are not the list as it was imported")
	}
}

// TestResultColumns: they stand right behind the address, or behind a column that is
// chosen, under their titles, and are harmless in a spreadsheet.
func TestResultColumns(t *testing.T) {
	s := decidetest.Members(40)
	for after, place := range map[int]int{0: 1, 2: 2, 3: 3} {
		e, file := exported(t, s, contract.ExportChoice{Decision: "all", Form: "results", After: after, Columns: []string{"finding", "odds", "decision", "reason"}})
		rows, err := csv.NewReader(strings.NewReader(file)).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		want := slices.Insert([]string{"e-mail", "town", "note"}, place, "Finding", "Odds", "Decision", "Reason")
		if !slices.Equal(rows[0], want) || !slices.Equal(e.Titles(), want) {
			t.Errorf("after %d: titles %v, %v; want %v", after, rows[0], e.Titles(), want)
		}
		for i, r := range rows[1:] {
			cells := slices.Delete(slices.Clone(r), place, place+4)
			if !slices.Equal(cells, s.Rows[i].Cells) {
				t.Errorf("after %d: row %d is %v", after, i+1, cells)
			}
			if f := r[place]; (s.Rows[i].Verdict != 0) != (f != "") && s.Rows[i].Of == 0 {
				t.Errorf("row %d has the finding %q", i+1, f)
			}
		}
	}
	d, _ := decide.New(t.Context(), s, s.Run, s.List, policy.Careful())
	if _, err := export.New(t.Context(), s, d, contract.ExportChoice{Columns: []string{"mood"}}); err == nil || !strings.Contains(err.Error(), "mood") {
		t.Errorf("a column that there is not: %v", err)
	}
	if _, err := export.New(t.Context(), s, d, contract.ExportChoice{Every: 2, Sample: 5}); err == nil {
		t.Error("a sample of every second row")
	}
}

// TestParts: by decision or finding, or so many rows each, every row is in one file of the
// zip, and the README names them all.
func TestParts(t *testing.T) {
	s := decidetest.Members(200)
	for _, o := range []contract.ExportChoice{{Decision: "all", Apart: "decision"}, {Decision: "all", Apart: "finding"}, {Decision: "all", RowsEach: 30}} {
		e, file := exported(t, s, o)
		if e.Kind() != "application/zip" || !strings.HasSuffix(e.FileName(), ".zip") {
			t.Errorf("%s of the kind %s", e.FileName(), e.Kind())
		}
		z, err := zip.NewReader(strings.NewReader(file), int64(len(file)))
		if err != nil {
			t.Fatal(err)
		}
		rows, readme := 0, ""
		var names []string
		for _, f := range z.File {
			r, err := f.Open()
			if err != nil {
				t.Fatal(err)
			}
			text, _ := io.ReadAll(r)
			if f.Name == "README.txt" {
				readme = string(text)
				continue
			}
			names = append(names, f.Name)
			n := strings.Count(string(text), "\n") - 1
			if rows += n; o.RowsEach > 0 && n > o.RowsEach {
				t.Errorf("%s has %d rows", f.Name, n)
			}
		}
		if rows != 200 {
			t.Errorf("%+v: %d rows in %v", o, rows, names)
		}
		for _, n := range names {
			if o.Apart != "" && !strings.Contains(readme, n) {
				t.Errorf("the README does not name %s: %s", n, readme)
			}
		}
	}
}

// TestSomeRows: samples have their size and are the same each time; every nth row and
// chosen addresses are what they say; the first rows are those of the file.
func TestSomeRows(t *testing.T) {
	s := decidetest.Members(300)
	count := func(o contract.ExportChoice) (int, string) {
		_, file := exported(t, s, o)
		return strings.Count(file, "\n") - 1, file
	}
	kept, _ := count(contract.ExportChoice{})
	one, first := count(contract.ExportChoice{Sample: 9})
	if _, second := count(contract.ExportChoice{Sample: 9}); one != 9 || first != second {
		t.Errorf("a sample of 9 has %d rows, and is the same again: %v", one, first == second)
	}
	if n, _ := count(contract.ExportChoice{Every: 4}); n != (kept+3)/4 {
		t.Errorf("every 4th of %d rows are %d", kept, n)
	}
	if n, file := count(contract.ExportChoice{Ordinals: []int32{2, 3}, Decision: "all"}); n != 2 || !strings.Contains(file, "member1@") {
		t.Errorf("%d rows of two addresses: %s", n, file)
	}
	if n, file := count(contract.ExportChoice{Decision: "all", Filter: contract.Filter{Domain: "D1.example", Search: "MEMBER1"}}); n == 0 || strings.Contains(file, "@d2") {
		t.Errorf("%d rows of a filter: %s", n, file)
	}
	e, file := exported(t, s, contract.ExportChoice{Form: "addresses"})
	tally, _ := e.Tally(t.Context(), new(decide.Memory))
	rows, err := e.First(t.Context(), tally, 3)
	if err != nil || len(rows) != 3 || strings.TrimSpace(rows[0][0]) != strings.TrimSpace(strings.SplitN(file, "\n", 2)[0]) {
		t.Errorf("the first rows %v, %v, of %.60q", rows, err, file)
	}
}

// TestGuard: cells of one's own that a spreadsheet would run stay as they are, unless
// somebody asks for it.
func TestGuard(t *testing.T) {
	s := decidetest.Members(20)
	for guard, want := range map[bool]string{false: ",=1+1", true: ",'=1+1"} {
		_, file := exported(t, s, contract.ExportChoice{Decision: "all", Format: "spreadsheet", Guard: guard})
		if !strings.Contains(file, want) && !strings.Contains(file, strings.Replace(want, ",", ",\"", 1)) {
			t.Errorf("guarded: %v: %.200s", guard, file)
		}
	}
}

// TestTag: the file of a run that ended has a name for its content, another for other
// options and overrides, and none while it may change.
func TestTag(t *testing.T) {
	s := decidetest.Members(20)
	if e, _ := exported(t, s, contract.ExportChoice{}); e.Tag() != "" {
		t.Error("the file of a run that goes on has a tag")
	}
	ended := s.Run.CreatedAt
	s.Run.FinishedAt = &ended
	tags := map[string]bool{}
	for _, o := range []contract.ExportChoice{{}, {}, {Decision: "drop"}, {Form: "results"}} {
		e, _ := exported(t, s, o)
		tags[e.Tag()] = true
	}
	if len(tags) != 3 || tags[""] {
		t.Errorf("%v", tags)
	}
}

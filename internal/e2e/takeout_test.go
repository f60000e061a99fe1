package e2e

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestTakeOut brings odd files in and takes them out again: untouched they are
// the same byte for byte, and in every other form cells stay in their columns.
func TestTakeOut(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow", 2624)
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i), "127.0.0.1:8124")
	api, ctx := client.New(s.URL, s.Key), context.Background()
	run := func(t *testing.T, name string, content []byte) (contract.List, contract.Run) {
		t.Helper()
		l, r := startNamed(t, api, name, content, "domain")
		r, err := api.Wait(ctx, r.ID, func(contract.Run) {})
		if err != nil {
			t.Fatal(err)
		}
		return l, r
	}
	take := func(t *testing.T, r contract.Run, how contract.TakingOut) []byte {
		t.Helper()
		var b bytes.Buffer
		if err := api.TakeOutFile(ctx, r.ID, how, &b); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	t.Run("untouched", func(t *testing.T) {
		files, err := filepath.Glob(filepath.Join(testkit.Root(), "internal/format/testdata/corpus/*"))
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, name := range files {
			reading, err := os.ReadFile(name + ".reading")
			if err != nil || !bytes.HasPrefix(reading, []byte("text,")) || bytes.Contains(reading, []byte("packed:")) || bytes.Contains(reading, []byte("column -1")) {
				continue // not delimited text, or nothing to bring in
			}
			content, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			if !bytes.Contains(bytes.ReplaceAll(content, []byte{0}, nil), []byte("@")) {
				continue
			}
			n++
			if _, r := run(t, filepath.Base(name), content); true {
				if got := take(t, r, contract.TakingOut{Decision: "all"}); !bytes.Equal(got, content) {
					t.Errorf("%s: %q came out, %q went in", filepath.Base(name), got, content)
				}
			}
		}
		if n < 25 {
			t.Errorf("only %d files were compared", n)
		}
	})

	const members = "Name;E-mail;Note\nAda Moss;ada.mossman@fernhollow.example;=1+1\nBirk;nobody@longgone.example;\"x;y\"\nEdda;;none\nAda again;Ada.Mossman@Fernhollow.example;\n"
	list, r := run(t, "members.csv", []byte(members))
	titles := []string{"Name", "E-mail", "Finding", "Cause", "Decision", "Note"}
	t.Run("with results", func(t *testing.T) {
		got := string(take(t, r, contract.TakingOut{Decision: "all", Form: "results"}))
		want := "Name;E-mail;Finding;Cause;Decision;Note\nAda Moss;ada.mossman@fernhollow.example;undecided;rule.depth;hold;=1+1\n" +
			"Birk;nobody@longgone.example;undeliverable;domain.absent;drop;\"x;y\"\nEdda;;;;drop;none\nAda again;Ada.Mossman@Fernhollow.example;undecided;rule.depth;drop;\n"
		if got != want {
			t.Errorf("got\n%s", got)
		}
	})
	t.Run("for a spreadsheet", func(t *testing.T) {
		got := take(t, r, contract.TakingOut{Decision: "all", Form: "results", Format: "spreadsheet", Guard: true})
		rows, err := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(got, []byte("\ufeff")))).ReadAll()
		if err != nil || len(rows) != 5 || !slices.Equal(rows[0], titles) || rows[1][5] != "'=1+1" || rows[2][5] != "x;y" || !bytes.HasPrefix(got, []byte("\ufeff")) {
			t.Errorf("%v: %q", err, rows)
		}
	})
	t.Run("as a workbook", func(t *testing.T) {
		book, err := excelize.OpenReader(bytes.NewReader(take(t, r, contract.TakingOut{Decision: "all", Form: "results", Format: "xlsx"})))
		if err != nil {
			t.Fatal(err)
		}
		rows, err := book.GetRows("List")
		if err != nil || len(rows) != 5 || !slices.Equal(rows[0], titles) || rows[1][5] != "=1+1" || rows[2][1] != "nobody@longgone.example" {
			t.Errorf("%v: %q", err, rows)
		}
		if f, _ := book.GetCellFormula("List", "F2"); f != "" {
			t.Errorf("a cell of the list became the formula %q", f)
		}
	})
	t.Run("as objects", func(t *testing.T) {
		lines := strings.Split(strings.TrimSpace(string(take(t, r, contract.TakingOut{Decision: "drop", Format: "jsonl"}))), "\n")
		var first map[string]string
		if err := json.Unmarshal([]byte(lines[0]), &first); err != nil || len(lines) != 3 || first["E-mail"] != "nobody@longgone.example" {
			t.Errorf("%v: %q", err, lines)
		}
	})
	t.Run("addresses and suppression", func(t *testing.T) {
		if got := string(take(t, r, contract.TakingOut{Decision: "hold", Form: "addresses"})); got != "ada.mossman@fernhollow.example\n" {
			t.Errorf("addresses: %q", got)
		}
		if got := string(take(t, r, contract.TakingOut{Decision: "drop", Form: "suppression"})); !strings.Contains(got, "nobody@longgone.example,Domain does not exist\r\n") {
			t.Errorf("suppression: %q", got)
		}
	})
	t.Run("a column that is not there", func(t *testing.T) {
		err := api.TakeOutFile(ctx, r.ID, contract.TakingOut{Form: "results", Columns: []string{"mood"}}, &bytes.Buffer{})
		if status(err) != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), "no result column \"mood\"; there is: finding") {
			t.Errorf("got %v", err)
		}
	})
	t.Run("by the command line", func(t *testing.T) {
		out := filepath.Join(t.TempDir(), "all.xlsx")
		text, err := testkit.Command(s.Env, "export", "-decision", "all", "-format", "xlsx", "-out", out, fmt.Sprint(r.ID)).CombinedOutput()
		if err != nil || !strings.Contains(string(text), "All 4 rows will be in the file.") {
			t.Errorf("%v: %s", err, text)
		}
		if b, err := os.ReadFile(out); err != nil || !bytes.HasPrefix(b, []byte("PK")) {
			t.Errorf("%v: %d bytes", err, len(b))
		}
	})
	t.Run("problem rows", func(t *testing.T) {
		var b bytes.Buffer
		if err := api.Problems(ctx, list.ID, &b); err != nil {
			t.Fatal(err)
		}
		want := "line,row,address cell,what is so of it\n4,3,,The address cell is empty.\n5,4,Ada.Mossman@Fernhollow.example,The same address stands in line 2.\n"
		if b.String() != want {
			t.Errorf("got\n%s", &b)
		}
	})
}

// TestLargeDomain plans a domain that has more addresses than are planned in
// one transaction.
func TestLargeDomain(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow", 2625)
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i), "127.0.0.1:8125")
	api := client.New(s.URL, s.Key)
	const n = 45_000
	var b strings.Builder
	for k := range n {
		fmt.Fprintf(&b, "member%05d@postbarn.example\n", k)
	}
	b.WriteString("ada@upperloam.example\n")
	_, r := startNamed(t, api, "members.txt", []byte(b.String()), "domain")
	r, err := api.Wait(t.Context(), r.ID, func(contract.Run) {})
	if err != nil || r.Done != n+1 || r.Open != 0 {
		t.Errorf("%v: %+v", err, r)
	}
}

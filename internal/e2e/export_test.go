package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/iotest"

	"github.com/xuri/excelize/v2"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/practice"
	"varnet/internal/testkit"
)

// TestExport brings odd files in and takes them out again: untouched they are
// the same byte for byte, and in every other form cells stay in their columns.
func TestExport(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
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
	take := func(t *testing.T, r contract.Run, how contract.ExportChoice) []byte {
		t.Helper()
		var b bytes.Buffer
		if err := api.ExportFile(ctx, r.ID, how, &b); err != nil {
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
				if got := take(t, r, contract.ExportChoice{Decision: "all"}); !bytes.Equal(got, content) {
					t.Errorf("%s: %q came out, %q went in", filepath.Base(name), got, content)
				}
			}
		}
		if n < 25 {
			t.Errorf("only %d files were compared", n)
		}
	})

	t.Run("several addresses in a cell", func(t *testing.T) {
		content, err := os.ReadFile(filepath.Join(testkit.Root(), "internal/format/testdata/corpus/several-in-a-cell.csv"))
		if err != nil {
			t.Fatal(err)
		}
		l, r := run(t, "several.csv", content)
		if len(l.AddressColumns) != 3 || l.Rows != 3 || r.Addresses != 6 {
			t.Errorf("%+v, %d addresses", l.AddressColumns, r.Addresses)
		}
		got := string(take(t, r, contract.ExportChoice{Decision: "all", Form: "results", Columns: []string{"cause"}}))
		want := "Name;E-mail;Cause;Cause (E-mail, address 2);Cause (E-mail, address 3);Town\nAda;ada.moss@fernhollow.example, ada@seedlibrary.example;rule.depth;rule.depth;;Loam\n" +
			"Birk;birk.quince@seedlibrary.example;rule.depth;;;Alder\nClova;clova.linden@upperloam.example / clova@fernhollow.example / nobody@longgone.example;rule.depth;rule.depth;domain.absent;\n"
		if got != want {
			t.Errorf("got\n%s", got)
		}
		_, r = run(t, "names.csv", []byte("E-mail,Name,E-mail\nada.moss@fernhollow.example,Ada,ada@seedlibrary.example\nbirk.quince@seedlibrary.example,Birk,\n"))
		if r.Addresses != 3 {
			t.Errorf("of two columns of one name %d addresses were asked about", r.Addresses)
		}
	})

	const members = "Name;E-mail;Note\nAda Moss;ada.mossman@fernhollow.example;=1+1\nBirk;nobody@longgone.example;\"x;y\"\nEdda;;none\nAda again;Ada.Mossman@Fernhollow.example;\n"
	list, r := run(t, "members.csv", []byte(members))
	titles := []string{"Name", "E-mail", "Finding", "Cause", "Decision", "Note"}
	t.Run("with results", func(t *testing.T) {
		got := string(take(t, r, contract.ExportChoice{Decision: "all", Form: "results"}))
		want := "Name;E-mail;Finding;Cause;Decision;Note\nAda Moss;ada.mossman@fernhollow.example;undecided;rule.depth;hold;=1+1\n" +
			"Birk;nobody@longgone.example;undeliverable;domain.absent;drop;\"x;y\"\nEdda;;;;drop;none\nAda again;Ada.Mossman@Fernhollow.example;undecided;rule.depth;drop;\n"
		if got != want {
			t.Errorf("got\n%s", got)
		}
	})
	t.Run("for a spreadsheet", func(t *testing.T) {
		got := take(t, r, contract.ExportChoice{Decision: "all", Form: "results", Format: "spreadsheet", Guard: true})
		rows, err := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(got, []byte("\ufeff")))).ReadAll()
		if err != nil || len(rows) != 5 || !slices.Equal(rows[0], titles) || rows[1][5] != "'=1+1" || rows[2][5] != "x;y" || !bytes.HasPrefix(got, []byte("\ufeff")) {
			t.Errorf("%v: %q", err, rows)
		}
	})
	t.Run("as a workbook", func(t *testing.T) {
		book, err := excelize.OpenReader(bytes.NewReader(take(t, r, contract.ExportChoice{Decision: "all", Form: "results", Format: "xlsx"})))
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
		lines := strings.Split(strings.TrimSpace(string(take(t, r, contract.ExportChoice{Decision: "drop", Format: "jsonl"}))), "\n")
		var first map[string]string
		if err := json.Unmarshal([]byte(lines[0]), &first); err != nil || len(lines) != 3 || first["E-mail"] != "nobody@longgone.example" {
			t.Errorf("%v: %q", err, lines)
		}
	})
	t.Run("addresses and suppression", func(t *testing.T) {
		if got := string(take(t, r, contract.ExportChoice{Decision: "hold", Form: "addresses"})); got != "ada.mossman@fernhollow.example\n" {
			t.Errorf("addresses: %q", got)
		}
		if got := string(take(t, r, contract.ExportChoice{Decision: "drop", Form: "suppression"})); !strings.Contains(got, "nobody@longgone.example,Domain does not exist\r\n") {
			t.Errorf("suppression: %q", got)
		}
	})
	t.Run("at a chosen place", func(t *testing.T) {
		got := string(take(t, r, contract.ExportChoice{Decision: "hold", Form: "results", After: 3, Columns: []string{"odds", "host", "reply"}}))
		if !strings.HasPrefix(got, "Name;E-mail;Note;Odds;Host;Reply\nAda Moss;ada.mossman@fernhollow.example;=1+1;0.") {
			t.Errorf("got\n%s", got)
		}
	})
	t.Run("a filter", func(t *testing.T) {
		how := contract.ExportChoice{Decision: "all", Filter: contract.Filter{Domain: "Fernhollow.example"}}
		said, err := api.ExportPreview(ctx, r.ID, how)
		if got := string(take(t, r, how)); err != nil || strings.Count(got, "\n") != 3 || said.Rows != 2 || said.Sentence != "Of the rows at Fernhollow.example: All 2 rows will be in the file." {
			t.Errorf("%v: %q, %s", err, got, said.Sentence)
		}
	})
	t.Run("in parts", func(t *testing.T) {
		for _, c := range []struct {
			how   contract.ExportChoice
			files string
		}{
			{contract.ExportChoice{Decision: "all", RowsEach: 3}, "members-all-1.csv:4 members-all-2.csv:2"},
			{contract.ExportChoice{Decision: "all", Apart: "decision"}, "members-hold.csv:2 members-drop.csv:4 README.txt:4"},
			{contract.ExportChoice{Decision: "all", Apart: "finding", Format: "jsonl"},
				"members-undecided.jsonl:1 members-undeliverable.jsonl:1 members-duplicates.jsonl:1 members-without-address.jsonl:1 README.txt:6"},
		} {
			if got := entries(t, take(t, r, c.how)); got != c.files {
				t.Errorf("%+v: %s", c.how, got)
			}
		}
	})
	t.Run("as an OpenDocument spreadsheet", func(t *testing.T) {
		again, err := api.Import(ctx, client.File{Name: "again.ods", Body: bytes.NewReader(take(t, r, contract.ExportChoice{Decision: "all", Format: "ods"}))})
		if err != nil || again.Rows != list.Rows || again.Duplicates != 1 || !slices.Equal(again.Columns, list.Columns) {
			t.Errorf("%v: %+v", err, again)
		}
	})
	t.Run("what will be in it", func(t *testing.T) {
		said, err := api.ExportPreview(ctx, r.ID, contract.ExportChoice{Decision: "all", Every: 3})
		if err != nil || said.Formulas != 1 || said.Rows != 2 || said.Sentence != "All 4 rows will be in the file. The file holds one in every 3 of them, 2 rows." {
			t.Errorf("%v: %+v", err, said)
		}
	})
	t.Run("a column that is not there", func(t *testing.T) {
		err := api.ExportFile(ctx, r.ID, contract.ExportChoice{Form: "results", Columns: []string{"mood"}}, &bytes.Buffer{})
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
		want := "line,row,address cell,problem\n4,3,,The address cell is empty.\n5,4,Ada.Mossman@Fernhollow.example,Repeats the address of line 2.\n"
		if b.String() != want {
			t.Errorf("got\n%s", &b)
		}
	})
}

// entries returns the files in a zip, each with its number of lines.
func entries(t *testing.T, archive []byte) string {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, f := range z.File {
		in, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		text, err := io.ReadAll(in)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, fmt.Sprintf("%s:%d", f.Name, bytes.Count(text, []byte("\n"))))
	}
	return strings.Join(out, " ")
}

// mailboxes returns addresses of a first name that exist at a domain.
func mailboxes(w *practice.World, first, domain string) (out []string) {
	for _, last := range strings.Fields("mossman larkham linden marsham pippin quince rootham rushby seedham sorrell") {
		if address := first + "." + last + "@" + domain; w.Truth(address).Deliverable() {
			out = append(out, address)
		}
	}
	return out
}

// TestTwoAddressColumns decides on rows that have two addresses.
func TestTwoAddressColumns(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api, ctx := client.New(s.URL, s.Key), t.Context()
	here, gone := mailboxes(i.World, "ada", "upperloam.example"), []string{"nobody.here@upperloam.example", "no.such@upperloam.example"}
	content := fmt.Sprintf("Name,Home,Work,Since\nAda,%s,,2021-03-04\nBirk,%s,%s,2020-11-30\nEdda,%s,%s,2019-01-01\nOrla,,,2018-05-06\nFinn,%s,%s,2017-02-03\n",
		here[0], gone[0], here[1], here[1], gone[1], here[0], here[2])
	l, err := api.Import(ctx, client.File{Name: "pairs.csv", Body: strings.NewReader(content), AddressColumns: []int{1, 2}})
	if err != nil || l.Rows != 5 || l.Blank != 1 || l.Addresses != 5 || l.Types[3] != "date" {
		t.Fatalf("%v: %+v", err, l)
	}
	r, err := api.StartRun(ctx, l.ID, contract.NewRun{Depth: "mailbox", Policy: "careful"})
	if err == nil {
		r, err = api.Wait(ctx, r.ID, func(contract.Run) {})
	}
	if err != nil || r.Done != 5 {
		t.Fatalf("%v: %+v", err, r)
	}
	take := func(how contract.ExportChoice) string {
		var b bytes.Buffer
		if err := api.ExportFile(ctx, r.ID, how, &b); err != nil {
			t.Fatal(err)
		}
		return b.String()
	}
	// Ada by her only address, Birk by the second, Finn by the second since
	// the first stands in Ada's row; Edda's addresses are Birk's and absent.
	if got := take(contract.ExportChoice{Form: "addresses"}); got != here[0]+"\n"+here[1]+"\n"+here[2]+"\n" || r.Kept != 3 {
		t.Errorf("%d kept: %s", r.Kept, got)
	}
	got := take(contract.ExportChoice{Decision: "all", Form: "results", Columns: []string{"finding"}})
	if want := "Name,Home,Finding,Work,Finding (Work),Since\nAda," + here[0] + ",deliverable,,,2021-03-04\n"; !strings.HasPrefix(got, want) {
		t.Errorf("got\n%s", got)
	}
	if got := take(contract.ExportChoice{Decision: "all"}); got != content {
		t.Errorf("untouched it came out as\n%s", got)
	}
	book, err := excelize.OpenReader(strings.NewReader(take(contract.ExportChoice{Decision: "all", Format: "xlsx"})))
	if err != nil {
		t.Fatal(err)
	}
	if raw, err := book.GetCellValue("List", "D2", excelize.Options{RawCellValue: true}); err != nil || raw != "44259" {
		t.Errorf("a date is written as %q: %v", raw, err)
	}
}

// TestBrokenDownload takes a file out through a line that breaks again and
// again.
func TestBrokenDownload(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	straight := client.New(s.URL, s.Key)
	_, content := writeList(t, i.World, 5000)
	_, r := startNamed(t, straight, "members.csv", content, "syntax")
	r, err := straight.Wait(t.Context(), r.ID, func(contract.Run) {})
	if err != nil {
		t.Fatal(err)
	}
	target, err := url.Parse(s.URL)
	if err != nil {
		t.Fatal(err)
	}
	var breaks atomic.Int32
	line := httptest.NewServer(&httputil.ReverseProxy{Rewrite: func(p *httputil.ProxyRequest) { p.SetURL(target) },
		ErrorLog: log.New(io.Discard, "", 0),
		ModifyResponse: func(resp *http.Response) error {
			if breaks.Add(1) <= 3 {
				resp.Body = struct {
					io.Reader
					io.Closer
				}{io.MultiReader(io.LimitReader(resp.Body, 100_000), iotest.ErrReader(io.ErrUnexpectedEOF)), resp.Body}
			}
			return nil
		}})
	defer line.Close()
	for _, how := range []contract.ExportChoice{{Decision: "all"}, {Decision: "all", Format: "xlsx"}} {
		breaks.Store(0)
		var whole, broken bytes.Buffer
		err := errors.Join(straight.ExportFile(t.Context(), r.ID, how, &whole), client.New(line.URL, s.Key).ExportFile(t.Context(), r.ID, how, &broken))
		if err != nil || !bytes.Equal(whole.Bytes(), broken.Bytes()) || breaks.Load() < 2 {
			t.Errorf("%s: %v: %d bytes, straight %d, in %d requests", how.Format, err, broken.Len(), whole.Len(), breaks.Load())
		}
	}
}

// TestLargeDomain plans a domain that has more addresses than are planned in
// one transaction.
func TestLargeDomain(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
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

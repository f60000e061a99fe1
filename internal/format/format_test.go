package format_test

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"varnet/core/sheet"
	"varnet/internal/format"
)

var columns = []format.Column{{Name: "Member no."}, {Name: "E-mail"}, {Name: "Joined", Kind: sheet.Kind{Type: sheet.Date, Layout: "2006-01-02"}},
	{Name: "Beds", Kind: sheet.Kind{Type: sheet.Number}}, {Name: "=1+1"}}

// hostile are cells that break out of formats that are written carelessly.
var hostile = []string{"", " ", "=1+1", "+44 7700 900123", "@SUM(A1)", `quote " in the middle`, "two\nlines", "carriage\r\nreturn", "a,b;c\td",
	"<b>&amp;</b>", "]]>", "\u202eright to left", "zero\u200bwidth", "00123", "1e5", "2026-11-25", strings.Repeat("long ", 2000), "Björn Ö", "\U0001f33d"}

func written(t *testing.T, o format.Output, semicolons bool, rows [][]string) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := format.NewRows(o, &b, columns, semicolons)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rows {
		if err := w.Write(r); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func read(t *testing.T, file []byte, o format.Options) (*format.Table, [][]string) {
	t.Helper()
	table, err := format.Open(t.Context(), bytes.NewReader(file), o)
	if err != nil {
		t.Fatal(err)
	}
	defer table.Close()
	c := csv.NewReader(table)
	c.FieldsPerRecord = -1
	rows, err := c.ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	return table, rows
}

// TestWorkbooksComeBack writes workbooks and reads them again: every cell is the
// same text, dates are dates and numbers numbers.
func TestWorkbooksComeBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for _, kind := range []format.Output{format.OutXLSX, format.OutODS} {
		var rows [][]string
		for n := range 60 {
			rows = append(rows, []string{fmt.Sprintf("FS-%05d", n), hostile[n%len(hostile)], fmt.Sprintf("20%02d-0%d-1%d", 10+n%16, 1+n%9, n%10), fmt.Sprint(rng.IntN(90)), hostile[rng.IntN(len(hostile))]})
		}
		_, got := read(t, written(t, kind, false, rows), format.Options{})
		if len(got) != len(rows)+1 {
			t.Fatalf("%s: %d rows came back of %d", kind, len(got)-1, len(rows))
		}
		if names := []string{"Member no.", "E-mail", "Joined", "Beds", "=1+1"}; !slices.Equal(got[0], names) {
			t.Errorf("%s: the columns are %q", kind, got[0])
		}
		for n, want := range rows {
			for i, cell := range want {
				if have := at(got[n+1], i); same(have) != same(cell) {
					t.Errorf("%s: row %d, column %d: %q came back as %q", kind, n+1, i+1, clip(cell), clip(have))
				}
			}
		}
	}
}

func at(row []string, i int) string {
	if i < len(row) {
		return row[i]
	}
	return ""
}

// same leaves out what a workbook may do to white space.
func same(cell string) string {
	return strings.ReplaceAll(strings.TrimSpace(cell), "\r\n", "\n")
}

func clip(s string) string { return s[:min(len(s), 60)] }

// TestSpreadsheetCSV: it opens in columns with its letters right, in locales with
// decimal commas too, and no cell of it is run as a formula.
func TestSpreadsheetCSV(t *testing.T) {
	for _, semicolons := range []bool{false, true} {
		text := written(t, format.Spreadsheet, semicolons, [][]string{{"1", "Björn;Ö,", "2026-11-25", "4", "x"}})
		if !bytes.HasPrefix(text, []byte("\xef\xbb\xbf")) {
			t.Errorf("semicolons %v: no mark of UTF-8 stands before it", semicolons)
		}
		c := csv.NewReader(bytes.NewReader(text[3:]))
		if semicolons {
			c.Comma = ';'
		}
		rows, err := c.ReadAll()
		if err != nil || len(rows) != 2 || rows[1][1] != "Björn;Ö," {
			t.Errorf("semicolons %v: %q, %v", semicolons, rows, err)
		}
	}
}

// TestJSONLines: each line is one object with the columns' names in their order.
func TestJSONLines(t *testing.T) {
	text := written(t, format.OutJSONL, false, [][]string{{"1", `a"b`, "2026-11-25", "4", "<script>"}, {"2", "", "", "", ""}})
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	if len(lines) != 2 {
		t.Fatalf("%d lines", len(lines))
	}
	var o map[string]string
	if err := json.Unmarshal([]byte(lines[0]), &o); err != nil || o["E-mail"] != `a"b` || o["=1+1"] != "<script>" {
		t.Errorf("%v: %v", err, o)
	}
	if strings.Index(lines[0], "Member no.") > strings.Index(lines[0], "Joined") {
		t.Errorf("the columns are out of order: %s", lines[0])
	}
}

// TestEveryOutputHasAnEnding: the ending and media type say what the file is.
func TestEveryOutputHasAnEnding(t *testing.T) {
	endings := map[string]bool{}
	for _, o := range []format.Output{format.AsBrought, format.OutXLSX, format.OutODS, format.OutJSONL, format.OutText} {
		ending, kind := o.Ending()
		if !strings.HasPrefix(ending, ".") || !strings.Contains(kind, "/") || endings[ending] {
			t.Errorf("%s: %q, %q", o, ending, kind)
		}
		endings[ending] = true
	}
}

func zipped(t *testing.T, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, content := range files {
		w, err := z.Create(name)
		if err == nil {
			_, err = io.WriteString(w, content)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func gzipped(t *testing.T, content []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if _, err := z.Write(content); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestPackedFiles: a packed file is read as what is in it, also packed twice; one
// packed deeper, one of several lists and one that unpacks without end are refused
// with a sentence.
func TestPackedFiles(t *testing.T) {
	list := "e-mail\nada@fernhollow.example\n"
	for what, file := range map[string][]byte{
		"gzip":          gzipped(t, []byte(list)),
		"zip":           zipped(t, map[string]string{"members.csv": list}),
		"gzip in a zip": zipped(t, map[string]string{"members.csv.gz": string(gzipped(t, []byte(list)))}),
	} {
		table, rows := read(t, file, format.Options{})
		if len(rows) != 2 || rows[1][0] != "ada@fernhollow.example" || table.Packed == "" {
			t.Errorf("%s: %q, packed %q", what, rows, table.Packed)
		}
	}
	deep := []byte(list)
	for range 4 {
		deep = gzipped(t, deep)
	}
	for what, file := range map[string][]byte{
		"packed four times": deep,
		"an empty zip":      zipped(t, nil),
		"a cut-off gzip":    gzipped(t, bytes.Repeat([]byte(list), 5000))[:40],
		"a cut-off zip":     zipped(t, map[string]string{"members.csv": list})[:60],
	} {
		table, err := format.Open(t.Context(), bytes.NewReader(file), format.Options{})
		if err == nil {
			_, err = io.ReadAll(table)
			table.Close()
		}
		var told *sheet.Error
		if err == nil || errors.As(err, &told) && !strings.HasSuffix(told.Problem, ".") {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// TestSheetsAreChosen: of a workbook with several sheets the one that is asked for
// is read, and one that is not there is refused with the names of those that are.
func TestSheetsAreChosen(t *testing.T) {
	book := written(t, format.OutXLSX, false, [][]string{{"1", "ada@fernhollow.example", "", "", ""}})
	table, _ := read(t, book, format.Options{})
	if len(table.Sheets) != 1 || table.Sheet != table.Sheets[0] {
		t.Fatalf("sheets %q, read %q", table.Sheets, table.Sheet)
	}
	if _, rows := read(t, book, format.Options{Sheet: table.Sheet}); len(rows) != 2 {
		t.Errorf("the sheet asked for by its name has %d rows", len(rows))
	}
	_, err := format.Open(t.Context(), bytes.NewReader(book), format.Options{Sheet: "No such sheet"})
	var told *sheet.Error
	if !errors.As(err, &told) || !strings.Contains(told.Problem, table.Sheet) {
		t.Errorf("a sheet that is not there: %v", err)
	}
}

// TestDamagedWorkbooks cuts and changes workbooks at every so many bytes: each is
// read, or refused with an error; none brings anything down.
func TestDamagedWorkbooks(t *testing.T) {
	rng := rand.New(rand.NewPCG(8, 9))
	for _, kind := range []format.Output{format.OutXLSX, format.OutODS} {
		whole := written(t, kind, false, [][]string{{"1", "ada@fernhollow.example", "2026-11-25", "7", "x"}})
		for n := range 60 {
			file := slices.Clone(whole)
			if n%2 == 0 {
				file = file[:rng.IntN(len(file))]
			} else {
				for range 3 {
					file[rng.IntN(len(file))] = byte(rng.Uint32())
				}
			}
			table, err := format.Open(t.Context(), bytes.NewReader(file), format.Options{})
			if err != nil {
				continue
			}
			_, _ = io.Copy(io.Discard, table)
			table.Close()
		}
	}
}

// TestDrawnLines: of a long line with many addresses each keeps what stands beside it, and no
// more.
func TestDrawnLines(t *testing.T) {
	var line strings.Builder
	line.WriteString("To: ")
	const many = 4000
	for n := range many {
		fmt.Fprintf(&line, "Ünal %d <member%d@fernhollow.example>, ", n, n)
	}
	table, err := format.Open(t.Context(), strings.NewReader(line.String()), format.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer table.Close()
	table.Draw(bufio.NewReader(strings.NewReader(line.String())))
	text, err := io.ReadAll(table)
	if err != nil {
		t.Fatal(err)
	}
	if got := bytes.Count(text, []byte("\n")); got != many+1 {
		t.Errorf("%d rows, want %d", got, many+1)
	}
	if len(text) > many*500 || !utf8.Valid(text) {
		t.Errorf("%d bytes of %d addresses in a line of %d", len(text), many, line.Len())
	}
}

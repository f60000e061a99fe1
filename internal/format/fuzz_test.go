package format_test

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"
	"unicode/utf8"

	"varnet/core/sheet"
	"varnet/internal/format"
)

// fuzzedOutput is how much is read of what a fuzzed file becomes.
const fuzzedOutput = 4 << 20

// fuzzedTime is how long reading it may take.
const fuzzedTime = 10 * time.Second

// readWhole reads a fuzzed file: it becomes CSV in UTF-8, or is refused in words, and soon.
func readWhole(t *testing.T, file []byte) {
	late := time.AfterFunc(fuzzedTime, func() { panic("reading the file does not end") })
	defer late.Stop()
	table, err := format.OpenHere(bytes.NewReader(file), format.Options{})
	if err == nil {
		defer table.Close()
		if table.Kind == format.Text {
			return // it passes as it is
		}
		var text []byte
		if text, err = io.ReadAll(io.LimitReader(table, fuzzedOutput)); err == nil && len(text) < fuzzedOutput {
			sound(t, text)
		}
	}
	var told *sheet.Error
	if err != nil && (!errors.As(err, &told) || !utf8.ValidString(told.Problem)) {
		t.Errorf("it fails with %v", err)
	}
}

// sound wants CSV in UTF-8 whose rows are no wider than they may be.
func sound(t *testing.T, text []byte) {
	if !utf8.Valid(text) {
		t.Error("the text is not UTF-8")
	}
	in := csv.NewReader(bytes.NewReader(text))
	in.FieldsPerRecord = -1
	for {
		row, err := in.Read()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil || len(row) > 2000 {
			t.Fatalf("a row of %d cells: %v", len(row), err)
		}
	}
}

// seed adds the corpus's files of a kind.
func seed(f *testing.F, pattern string) {
	files, err := filepath.Glob("testdata/corpus/" + pattern)
	if err != nil || len(files) == 0 {
		f.Fatalf("no seeds %s: %v", pattern, err)
	}
	for _, name := range files {
		b, err := os.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
	}
}

func FuzzJSON(f *testing.F) {
	seed(f, "*.json*")
	f.Add([]byte(`[{"e-mail":"ada@fernhollow.example","e-mail":"birk@fernhollow.example","":{"a":[1,2e9]}}]`))
	f.Fuzz(func(t *testing.T, file []byte) { readWhole(t, file) })
}

func FuzzVCard(f *testing.F) {
	seed(f, "*.vcf")
	f.Fuzz(func(t *testing.T, file []byte) { readWhole(t, file) })
}

func FuzzLDIF(f *testing.F) {
	seed(f, "*.ldif")
	f.Fuzz(func(t *testing.T, file []byte) { readWhole(t, file) })
}

func FuzzXLS(f *testing.F) {
	seed(f, "*.xls")
	f.Fuzz(func(t *testing.T, file []byte) { readWhole(t, file) })
}

// packedAs packs the parts of a spreadsheet, some of them fuzzed.
func packedAs(members []member, fuzzed map[string][]byte) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, m := range members {
		w, err := z.CreateHeader(&zip.FileHeader{Name: m.name, Method: zip.Store})
		if err != nil {
			panic(err) // memory alone is written
		}
		if text, ok := fuzzed[m.name]; ok {
			_, _ = w.Write(text)
		} else {
			_, _ = io.Copy(w, m.read())
		}
	}
	_ = z.Close()
	return b.Bytes()
}

// FuzzODS changes the content of a spreadsheet.
func FuzzODS(f *testing.F) {
	f.Add([]byte(tableBegin + `<table:table-row table:number-rows-repeated="3"><table:table-cell table:number-columns-repeated="2"><text:p>ada@fernhollow.example<text:s text:c="2"/><text:tab/></text:p><office:annotation><text:p>a note</text:p></office:annotation></table:table-cell><table:covered-table-cell/></table:table-row>` + tableEnd))
	f.Fuzz(func(t *testing.T, content []byte) {
		readWhole(t, packedAs(tables(member{}), map[string][]byte{"content.xml": content}))
	})
}

// FuzzXLSX changes the sheet and the shared texts of a workbook.
func FuzzXLSX(f *testing.F) {
	f.Add([]byte(sheetBegin+`<row r="2"><c r="B2" t="s"><v>0</v></c><c t="s"><v>1</v></c><c t="b"><v>1</v></c><c t="e"><v>#N/A</v></c><c><f>1+1</f><v>2</v></c></row>`+sheetEnd),
		[]byte(`<sst `+mainNS+` count="2" uniqueCount="2"><si><t xml:space="preserve"> ada@fernhollow.example</t></si><si><r><t>a</t></r><r><rPr><b/></rPr><t>b</t></r></si></sst>`))
	f.Add([]byte(sheetBegin+oneRow+sheetEnd), []byte(`<sst `+mainNS+`/>`))
	f.Fuzz(func(t *testing.T, sheetXML, shared []byte) {
		readWhole(t, packedAs(workbook(member{}, member{name: "xl/sharedStrings.xml"}), map[string][]byte{"xl/worksheets/sheet1.xml": sheetXML, "xl/sharedStrings.xml": shared}))
	})
}

package format_test

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"context"
	"errors"
	"io"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"varnet/core/sheet"
	"varnet/internal/format"
)

// filler reads as one text again and again.
type filler struct {
	text string
	at   int
}

func (f *filler) Read(b []byte) (int, error) {
	for n := range b {
		b[n] = f.text[f.at]
		if f.at++; f.at == len(f.text) {
			f.at = 0
		}
	}
	return len(b), nil
}

// member is a file in a packed one: a text between two others, so many bytes of it.
type member struct {
	name, before, text string
	bytes              int64
	after              string
}

func (m member) read() io.Reader {
	if m.text == "" {
		m.text = " "
	}
	return io.MultiReader(strings.NewReader(m.before), io.LimitReader(&filler{text: m.text}, m.bytes/int64(len(m.text))*int64(len(m.text))), strings.NewReader(m.after))
}

// bomb packs members.
func bomb(t *testing.T, members ...member) io.Reader {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	z.RegisterCompressor(zip.Deflate, func(w io.Writer) (io.WriteCloser, error) { return flate.NewWriter(w, flate.BestSpeed) })
	for _, m := range members {
		w, err := z.Create(m.name)
		if err == nil {
			_, err = io.Copy(w, m.read())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return &b
}

const (
	mainNS     = `xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"`
	oneRow     = `<row r="1"><c r="A1" t="inlineStr"><is><t>ada@fernhollow.example</t></is></c></row>`
	sheetBegin = `<worksheet ` + mainNS + `><sheetData>`
	sheetEnd   = `</sheetData></worksheet>`
	tableBegin = `<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"><office:body><office:spreadsheet><table:table table:name="Members">`
	tableEnd   = `</table:table></office:spreadsheet></office:body></office:document-content>`
)

// workbook is an XLSX file with one sheet and, maybe, shared texts.
func workbook(sheetXML member, shared ...member) []member {
	sheetXML.name = "xl/worksheets/sheet1.xml"
	return append([]member{
		{name: "[Content_Types].xml", before: `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="xml" ContentType="application/xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/><Override PartName="/xl/worksheets/sheet1.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"/><Override PartName="/xl/sharedStrings.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sharedStrings+xml"/></Types>`},
		{name: "_rels/.rels", before: `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="xl/workbook.xml"/></Relationships>`},
		{name: "xl/workbook.xml", before: `<workbook ` + mainNS + ` xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="Members" sheetId="1" r:id="rId1"/></sheets></workbook>`},
		{name: "xl/_rels/workbook.xml.rels", before: `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="rId2" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/sharedStrings" Target="sharedStrings.xml"/></Relationships>`},
		sheetXML,
	}, shared...)
}

func tables(m member) []member {
	m.name, m.before, m.after = "content.xml", tableBegin+m.before, m.after+tableEnd
	return []member{{name: "mimetype", before: "application/vnd.oasis.opendocument.spreadsheet"}, m}
}

// TestBombs reads files that are small and unpack into large ones, or into much work: each is
// read, or refused in words, by a process that stays within its memory.
func TestBombs(t *testing.T) {
	if raced {
		t.Skip("the race detector's own memory would be counted; script/test runs this without it")
	}
	const size = 320 << 20
	for _, c := range []struct {
		name string
		file io.Reader
		says string // "": it may be read
	}{
		{"a workbook padded with spaces", bomb(t, workbook(member{before: sheetBegin + oneRow, bytes: size, after: sheetEnd})...), "256 MB of memory"},
		{"a workbook with one endless attribute", bomb(t, workbook(member{before: sheetBegin + `<row r="`, text: "1", bytes: size, after: `">` + sheetEnd})...), "256 MB of memory"},
		{"a workbook of empty shared texts", bomb(t, workbook(member{before: sheetBegin + oneRow, after: sheetEnd},
			member{name: "xl/sharedStrings.xml", before: `<sst ` + mainNS + `>`, text: `<si><t/></si>`, bytes: size, after: `</sst>`})...), ""},
		{"a workbook of shared texts that are used", bomb(t, workbook(member{before: sheetBegin + `<row r="1"><c r="A1" t="s"><v>0</v></c></row>`, after: sheetEnd},
			member{name: "xl/sharedStrings.xml", before: `<sst ` + mainNS + `>`, text: `<si><t/></si>`, bytes: size / 3, after: `</sst>`})...), "The spreadsheet is empty"},
		{"a workbook of shared texts without end", bomb(t, workbook(member{before: sheetBegin + `<row r="1"><c r="A1" t="s"><v>0</v></c></row>`, after: sheetEnd},
			member{name: "xl/sharedStrings.xml", before: `<sst ` + mainNS + `>`, text: `<si><t>` + strings.Repeat("seed", 200) + `</t></si>`, bytes: size, after: `</sst>`})...), "256 MB of memory"},
		{"a workbook of cells at the far right", bomb(t, workbook(member{before: sheetBegin + oneRow, text: `<row><c r="XFD1" t="b"><v>1</v></c></row>`, bytes: 8 << 20, after: sheetEnd})...), "may have 2000"},
		{"tables padded with spaces", bomb(t, tables(member{before: `<table:table-row><table:table-cell><text:p>ada@fernhollow.example</text:p></table:table-cell></table:table-row>`, bytes: size})...), "256 MB of memory"},
		{"tables with one endless attribute", bomb(t, tables(member{before: `<table:table-row table:style-name="`, text: "x", bytes: size, after: `"/>`})...), "256 MB of memory"},
		{"a card folded a character a line", io.MultiReader(strings.NewReader("BEGIN:VCARD\nEMAIL:ada@fernhollow.example\nNOTE:"), io.LimitReader(&filler{text: "\n x"}, 3*900_000), strings.NewReader("\nEND:VCARD\n")), ""},
		{"an object with one name a hundred thousand times", strings.NewReader(`[{"e-mail":"ada@fernhollow.example"` + strings.Repeat(`,"note":"x"`, 400_000) + `}]`), ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			begun := time.Now()
			table, err := format.Open(t.Context(), c.file, format.Options{})
			if err == nil {
				_, err = io.Copy(io.Discard, table)
				table.Close()
			}
			var told *sheet.Error
			switch {
			case err != nil && !errors.As(err, &told):
				t.Errorf("it failed: %v", err)
			case c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(told.Problem, c.says)):
				t.Errorf("it says %v, want %q", err, c.says)
			}
			var used syscall.Rusage
			if err := syscall.Getrusage(syscall.RUSAGE_CHILDREN, &used); err != nil {
				t.Fatal(err)
			}
			t.Logf("%v, at most %d MB so far: %v", time.Since(begun).Round(time.Millisecond), used.Maxrss>>10, err)
			if used.Maxrss>>10 > 340 {
				t.Errorf("a process had %d MB", used.Maxrss>>10)
			}
		})
	}
}

// TestReadingEnds: a file that takes long is left when nobody wants it any more, and nothing
// of it stays on disk.
func TestReadingEnds(t *testing.T) {
	temporary := t.TempDir()
	t.Setenv("TMPDIR", temporary)
	file := bomb(t, workbook(member{before: sheetBegin + oneRow, text: `<row><c t="b"><v>1</v></c></row>`, bytes: 32 << 20, after: sheetEnd})...)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	begun := time.Now()
	table, err := format.Open(ctx, file, format.Options{})
	if err == nil {
		_, err = io.Copy(io.Discard, table)
		table.Close()
	}
	if !errors.Is(err, context.DeadlineExceeded) || time.Since(begun) > 5*time.Second {
		t.Errorf("after %v: %v", time.Since(begun), err)
	}
	if left, err := os.ReadDir(temporary); err != nil || len(left) > 0 {
		t.Errorf("there are still %v, %v", left, err)
	}
}

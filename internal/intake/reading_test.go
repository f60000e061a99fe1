package intake_test

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"varnet/core/sheet"
	"varnet/internal/format"
	"varnet/internal/intake"
)

const corpus = "../format/testdata/corpus"

// told is what is made of a file: its reading and its first rows, or the error.
func told(t *testing.T, file io.Reader) string {
	t.Helper()
	r, err := intake.Read(t.Context(), file, "", sheet.Overrule{})
	if err != nil {
		return "error: " + err.Error() + "\n"
	}
	defer r.Close()
	var b strings.Builder
	fmt.Fprintf(&b, "%s, delimiter %q, quote %q, %s, header %v, address column %d\n", r.Kind, r.Dialect.Delimiter, r.Dialect.Quote, r.Dialect.Encoding, r.Dialect.Header, r.AddressColumn)
	if len(r.Sheets) > 0 {
		fmt.Fprintf(&b, "sheet %q of %q\n", r.Sheet, r.Sheets)
	}
	if r.Packed != "" {
		fmt.Fprintf(&b, "packed: %s\n", r.Packed)
	}
	fmt.Fprintf(&b, "columns %q\n", r.Columns[:min(len(r.Columns), 8)])
	in := sheet.NewReader(r.Rest, r.Dialect)
	for n := 0; n < 12; n++ {
		rec, err := in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			fmt.Fprintf(&b, "error: %v\n", err)
			break
		}
		cells := r.Dialect.Cells(rec.Raw)
		fmt.Fprintf(&b, "line %d: %q\n", rec.Line, cells[:min(len(cells), 8)])
	}
	return b.String()
}

// TestCorpus reads odd files as they are found. What is made of each stands
// beside it; VARNET_WRITE=1 writes that anew, to be read before it is kept.
func TestCorpus(t *testing.T) {
	files, err := filepath.Glob(corpus + "/*")
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for _, name := range files {
		if strings.HasSuffix(name, ".reading") {
			continue
		}
		n++
		t.Run(filepath.Base(name), func(t *testing.T) {
			f, err := os.Open(name)
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			got := told(t, f)
			if os.Getenv("VARNET_WRITE") != "" {
				if err := os.WriteFile(name+".reading", []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
				return
			}
			want, err := os.ReadFile(name + ".reading")
			if err != nil || got != string(want) {
				t.Errorf("%v: read as\n%s\nand not as\n%s", err, got, want)
			}
		})
	}
	if n < 60 {
		t.Errorf("there are only %d files", n)
	}
}

// zeros is an endless file.
type zeros struct{ c byte }

func (z zeros) Read(b []byte) (int, error) {
	return copy(b, blocks[z.c]), nil
}

// blocks are what such files are made of.
var blocks = map[byte][]byte{'x': bytes.Repeat([]byte{'x'}, 1<<20), 0: make([]byte, 1<<20), ' ': bytes.Repeat([]byte{' '}, 1<<20)}

func packed(t *testing.T, name string, body io.Reader) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(name)
	if err == nil {
		_, err = io.Copy(w, body)
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func gzipped(t *testing.T, body io.Reader) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := io.Copy(z, body)
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestHostile reads files that were made to do harm to their end: a sentence for
// each, and memory stays bounded.
func TestHostile(t *testing.T) {
	const big = 12 << 20
	wide := "e-mail" + strings.Repeat(",c", 100_000) + "\nada@fernhollow.example\n"
	for _, c := range []struct {
		name string
		file io.Reader
		says string
	}{
		{"a line of 1 GB", io.MultiReader(strings.NewReader("e-mail\n\""), io.LimitReader(zeros{'x'}, 1<<30)), "a record longer than"},
		{"a line of 1 GB in an address book", io.MultiReader(strings.NewReader("BEGIN:VCARD\nNOTE:"), io.LimitReader(zeros{'x'}, 1<<30)), "is larger than 512 MB"},
		{"a line of 12 MB in an address book", io.MultiReader(strings.NewReader("BEGIN:VCARD\nNOTE:"), io.LimitReader(zeros{'x'}, big)), "a line longer than"},
		{"a value of 12 MB in JSON", io.MultiReader(strings.NewReader(`[{"mail":"`), io.LimitReader(zeros{'x'}, big)), "larger than 8 MB"},
		{"a packed line of 12 MB", bytes.NewReader(packed(t, "a.csv", io.MultiReader(strings.NewReader("e-mail\n\""), io.LimitReader(zeros{'x'}, big)))), "a record longer than"},
		{"a gzip file of zeros", bytes.NewReader(gzipped(t, io.LimitReader(zeros{0}, big))), "are zero bytes"},
		{"100,000 columns", strings.NewReader(wide), "line 1: this record has 10000 cells or more"},
		{"entities in a workbook", bytes.NewReader(packed(t, "xl/workbook.xml", strings.NewReader(`<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;">]><x>&b;</x>`))), "The xlsx file is damaged"},
		{"a workbook of zeros", bytes.NewReader(packed(t, "xl/workbook.xml", io.LimitReader(zeros{' '}, big))), "The xlsx file is damaged"},
	} {
		t.Run(c.name, func(t *testing.T) {
			before := allocated()
			says := whole(t, c.file)
			if c.says != "" && !strings.Contains(says, c.says) {
				t.Errorf("it says %q, want %q", says, c.says)
			}
			t.Logf("it says: %.200s", says)
			if grown := allocated() - before; grown > 250<<20 {
				t.Errorf("%d MB are held afterwards", grown>>20)
			}
		})
	}
}

func allocated() int64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// whole reads a file to its end and returns the error there is.
func whole(t *testing.T, file io.Reader) string {
	r, err := intake.Read(t.Context(), file, "", sheet.Overrule{})
	if err != nil {
		return err.Error()
	}
	defer r.Close()
	in := sheet.NewReader(r.Rest, r.Dialect)
	for n := 0; ; n++ {
		if _, err := in.Next(); err == io.EOF {
			return fmt.Sprintf("read to its end: %d records of %s", n, r.Kind)
		} else if err != nil {
			return err.Error()
		}
	}
}

// TestSheetIsChosen reads another sheet than the first.
func TestSheetIsChosen(t *testing.T) {
	for _, c := range []struct{ sheet, says string }{{"Old", "old@fernhollow.example"}, {"Nowhere", "There is nothing on a sheet \"Nowhere\". The file has: Members, Old."}} {
		f, err := os.Open(corpus + "/workbook.xlsx")
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		r, err := intake.Read(t.Context(), f, c.sheet, sheet.Overrule{})
		got := fmt.Sprint(err)
		if err == nil {
			got = fmt.Sprint(r.Guessed.Rows)
			r.Close()
		}
		if !strings.Contains(got, c.says) {
			t.Errorf("%s: %s", c.sheet, got)
		}
	}
}

// TestOverruled settles each part of the dialect against the guess.
func TestOverruled(t *testing.T) {
	text := func(s string) *string { return &s }
	no := false
	file := "na;me,e-mail\nA;da,ada@fernhollow.example\n"
	for want, o := range map[string]sheet.Overrule{
		`delimiter ",", [["A;da" "ada@fernhollow.example"]]`:                    {},
		`delimiter ";", [["A" "da,ada@fernhollow.example"]]`:                    {Delimiter: text(";")},
		`delimiter ",", [["na;me" "e-mail"] ["A;da" "ada@fernhollow.example"]]`: {Header: &no},
		`error: The encoding "klingon" is not known.`:                           {Encoding: text("klingon")},
		`error: "::" cannot be the delimiter between cells`:                     {Delimiter: text("::")},
	} {
		r, err := intake.Read(t.Context(), strings.NewReader(file), "", o)
		got := "error: " + fmt.Sprint(err)
		if err == nil {
			got = fmt.Sprintf("delimiter %q, %q", r.Dialect.Delimiter, r.Guessed.Rows)
			r.Close()
		}
		if !strings.HasPrefix(got, want) {
			t.Errorf("%s, want %s", got, want)
		}
	}
	prose := "Dear Ada, write to birk@fernhollow.example, or to edda@fernhollow.example.\n"
	for want, o := range map[format.Kind]sheet.Overrule{format.Free: {Header: &no}, format.Text: {Delimiter: text(",")}} {
		r, err := intake.Read(t.Context(), strings.NewReader(prose), "", o)
		if err != nil || r.Kind != want {
			t.Fatalf("prose, overruled: %v, %v", r, err)
		}
		r.Close()
	}
	r, err := intake.Read(t.Context(), strings.NewReader("e-mail,imi\xea\nada@fernhollow.example,\xaflow\n"), "", sheet.Overrule{Encoding: text("windows-1250")})
	if err != nil || r.Columns[1] != "imię" || r.Guessed.Rows[0][1] != "Żlow" {
		t.Errorf("windows-1250: %v, %v", r, err)
	}
	if r.Kind != format.Text {
		t.Error(r.Kind)
	}
	r.Close()
}

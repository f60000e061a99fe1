//go:build interop

package interop

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"varnet/core/sheet"
	"varnet/internal/format"
)

// TestOffice opens a workbook and a CSV for spreadsheets in LibreOffice and has
// them written again: every cell is in its column, with its text.
func TestOffice(t *testing.T) {
	if _, err := exec.LookPath("soffice"); err != nil {
		t.Skip("LibreOffice is not here; script/interop office installs it")
	}
	columns := []format.Column{{Name: "Name"}, {Name: "E-mail"}, {Name: "Joined", Kind: sheet.Kind{Type: sheet.Date, Layout: "02.01.2006"}}, {Name: "Note"}}
	titles := []string{"Name", "E-mail", "Joined", "Note"}
	rows := [][]string{
		{"Ada; Moss, the \"elder\"", "ada.moss@fernhollow.example", "03.04.2021", "two\nlines"},
		{"Björn", "bjorn@seedlibrary.example", "24.12.1999", "007"},
		{"Żaneta", "zaneta@upperloam.example", "", "'=1+1  x"},
	}
	for _, c := range []struct {
		out        format.Output
		semicolons bool
	}{{format.OutXLSX, false}, {format.OutODS, false}, {format.Spreadsheet, false}, {format.Spreadsheet, true}} {
		ending, _ := c.out.Ending()
		dir := publicDir(t, "office")
		name := filepath.Join(dir, "list"+ending)
		var b bytes.Buffer
		w, err := format.NewRows(c.out, &b, columns, c.semicolons)
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
		if err := os.WriteFile(name, b.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		args := []string{"-env:UserInstallation=file://" + filepath.Join(dir, "profile"), "--headless",
			"--convert-to", "csv:Text - txt - csv (StarCalc):44,34,76", "--outdir", filepath.Join(dir, "again")}
		if c.out == format.Spreadsheet { // without its dialog it looks at no byte order mark
			args = append(args, fmt.Sprintf("--infilter=CSV:%d,34,76", map[bool]byte{false: ',', true: ';'}[c.semicolons]))
		}
		run(t, "soffice", append(args, name)...)
		text, err := os.ReadFile(filepath.Join(dir, "again", "list.csv"))
		if err != nil {
			t.Fatal(err)
		}
		got, err := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(text, []byte("\ufeff")))).ReadAll()
		if err != nil || len(got) != len(rows)+1 || !slices.Equal(got[0], titles) {
			t.Fatalf("%s, semicolons %v: %v: %q", c.out, c.semicolons, err, got)
		}
		for i, r := range rows {
			if c.out == format.Spreadsheet && r[3] == "007" {
				r = append(slices.Clone(r[:3]), "7") // a CSV cannot say that a number is a text
			}
			if at, err := time.Parse("02.01.2006", r[2]); err == nil && c.out != format.Spreadsheet {
				r = slices.Clone(r)
				r[2] = at.Format(time.DateOnly) // a date, and no longer a text
			}
			if !slices.Equal(got[i+1], r) {
				t.Errorf("%s, semicolons %v: %q, want %q", c.out, c.semicolons, got[i+1], r)
			}
		}
	}
}

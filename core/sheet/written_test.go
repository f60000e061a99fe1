package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
)

// table is a list as somebody might have it, and how it is written.
type table struct {
	Dialect
	lineEnd string
	last    bool // the last record has a line end, too
	cells   [][]string
	column  int // of the addresses
}

// beyond is what each encoding can hold beside ASCII; Cyrillic is told by its words.
var beyond = map[string][]string{UTF8: {"ä", "ß", "漢", "🌱"}, Windows1252: {"ä", "ß", "é"}, Windows1251: {"Семена", "бобы"},
	UTF16LE: {"ä", "漢", "🌱"}, UTF16BE: {"ä", "漢", "🌱"}}

// draw makes one up.
func draw(rng *rand.Rand) table {
	encodings := []string{UTF8, UTF8, UTF16LE, UTF16BE, Windows1252, Windows1251}
	d := table{lineEnd: []string{"\n", "\r\n"}[rng.IntN(2)], last: rng.IntN(3) > 0,
		Dialect: Dialect{Delimiter: []string{",", ";", "\t", "|"}[rng.IntN(4)], Quote: `"`, Encoding: encodings[rng.IntN(len(encodings))], Header: rng.IntN(3) > 0}}
	columns := 2 + rng.IntN(6)
	d.column = rng.IntN(columns)
	if d.Header {
		header := make([]string, columns)
		for i := range header {
			header[i] = fmt.Sprintf("crop %d", i+1)
		}
		header[d.column] = "e-mail"
		d.cells = append(d.cells, header)
	}
	for n := range 5 + rng.IntN(60) {
		row := make([]string, columns)
		for i := range row {
			row[i] = d.word(rng)
		}
		row[d.column] = fmt.Sprintf("member.%d@fernhollow.example", n)
		d.cells = append(d.cells, row)
	}
	return d
}

// word is a cell with anything in it that has to be wrapped now and then.
func (d table) word(rng *rand.Rand) string {
	own := beyond[d.Encoding]
	var b strings.Builder
	for range rng.IntN(12) {
		switch rng.IntN(14) {
		case 0:
			b.WriteString(d.Delimiter)
		case 1:
			b.WriteString(`"`)
		case 2:
			b.WriteString(d.lineEnd)
		case 3, 4:
			b.WriteString(own[rng.IntN(len(own))])
		default:
			b.WriteByte(byte('a' + rng.IntN(26)))
		}
	}
	return b.String()
}

// file is the table as it is written.
func (d table) file(t *testing.T) []byte {
	t.Helper()
	var text, file bytes.Buffer
	for i, row := range d.cells {
		text.Write(d.Kept().Record(row))
		if i < len(d.cells)-1 || d.last {
			text.WriteString(d.lineEnd)
		}
	}
	w := d.Writer(&file)
	if _, err := w.Write(text.Bytes()); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return file.Bytes()
}

// records reads a file whole.
func records(t *testing.T, file []byte, d Dialect) (out [][]byte) {
	t.Helper()
	for r := NewReader(bytes.NewReader(file), d); ; {
		rec, err := r.Next()
		if errors.Is(err, io.EOF) {
			return out
		}
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, bytes.Clone(rec.Raw))
	}
}

// TestWhatIsWrittenIsRead: a table is told by its bytes alone, whatever stands in its
// cells; its cells are those that were written; more cells stand beside them without
// changing any; and what is read is, put together, what was written.
func TestWhatIsWrittenIsRead(t *testing.T) {
	for n := range 200 {
		d := draw(rand.New(rand.NewPCG(26, uint64(n))))
		file := d.file(t)
		g, err := Guess(file)
		if err != nil {
			t.Fatalf("table %d, %+v: %v\n%q", n, d.Dialect, err, file)
		}
		if g.Dialect.Delimiter != d.Delimiter || g.Dialect.Header != d.Header || g.AddressColumn != d.column {
			t.Fatalf("table %d is %+v with addresses in column %d, guessed as %+v, %d\n%q", n, d.Dialect, d.column, g.Dialect, g.AddressColumn, file)
		}
		var whole bytes.Buffer
		w := g.Dialect.Writer(&whole)
		read := g.Dialect.Kept()
		for i, raw := range records(t, file, g.Dialect) {
			if _, err := w.Write(raw); err != nil {
				t.Fatal(err)
			}
			d.held(t, n, i, raw, read)
		}
		if w.Close() != nil || !bytes.Equal(whole.Bytes(), file) {
			t.Fatalf("table %d was %q and comes back as %q", n, file, whole.Bytes())
		}
	}
}

// held holds one record against the cells that were written.
func (d table) held(t *testing.T, n, i int, raw []byte, read Dialect) {
	t.Helper()
	read.Quote = `"` // where no cell had to be wrapped, none is guessed
	want := d.cells[i]
	if got := read.Cells(raw); !slices.Equal(got, want) {
		t.Fatalf("table %d, record %d: cells %q, want %q", n, i+1, got, want)
	}
	after, more := i%len(want), []string{"keep", d.Delimiter + `"x"`}
	with := read.Insert(raw, after, more)
	if got := read.Cells(with); !slices.Equal(got, slices.Insert(slices.Clone(want), after+1, more...)) {
		t.Fatalf("table %d, record %d with %q after cell %d: %q", n, i+1, more, after, got)
	}
	if !bytes.Equal(LineEnd(with), LineEnd(raw)) {
		t.Fatalf("table %d, record %d ends with %q, %q before", n, i+1, LineEnd(with), LineEnd(raw))
	}
}

func TestKindOf(t *testing.T) {
	for _, c := range []struct {
		cells []string
		want  Kind
	}{
		{nil, Kind{Type: Text}},
		{[]string{"", " "}, Kind{Type: Text}},
		{[]string{"1", "", "-2.5", "100000"}, Kind{Type: Number}},
		{[]string{"1", "two"}, Kind{Type: Text}},
		{[]string{"007", "12"}, Kind{Type: Text}},
		{[]string{"+1", "2"}, Kind{Type: Text}},
		{[]string{"1e3"}, Kind{Type: Text}},
		{[]string{"12345678901234567"}, Kind{Type: Text}},
		{[]string{"2019-03-01", "2024-12-31"}, Kind{Type: Date, Layout: "2006-01-02"}},
		{[]string{"2019-03-01", "2024-12-32"}, Kind{Type: Text}},
		{[]string{"31.12.2019"}, Kind{Type: Date, Layout: "02.01.2006"}},
		{[]string{"03/04/2019", "05/06/2019"}, Kind{Type: Text}}, // either way round
		{[]string{"03/04/2019", "25/06/2019"}, Kind{Type: Date, Layout: "02/01/2006"}},
		{[]string{"03/04/2019", "06/25/2019"}, Kind{Type: Date, Layout: "01/02/2006"}},
		{[]string{"25/06/2019", "06/25/2019"}, Kind{Type: Text}},
		{[]string{"2019/03/01"}, Kind{Type: Date, Layout: "2006/01/02"}},
		{[]string{"1 March 2019", "12 May 2024"}, Kind{Type: Date, Layout: "2 January 2006"}},
	} {
		if got := KindOf(c.cells); got != c.want {
			t.Errorf("%q are %+v, want %+v", c.cells, got, c.want)
		}
	}
}

// TestFormulas: what a spreadsheet would run is told, in whatever it is wrapped, and
// made harmless; amounts and telephone numbers are left alone.
func TestFormulas(t *testing.T) {
	d := Dialect{Delimiter: ",", Quote: `"`, Encoding: UTF8}
	for cell, formula := range map[string]bool{
		"": false, "Ada": false, "=1+1": true, "@SUM(A1)": true, "\tx": true, "+49 30 1234-5": false, "-12.50": false, "-": false,
		"-cmd": true, "+A1": true, `=HYPERLINK("x")`: true, "a=b": false, "(030) 12": false, "=": true,
	} {
		if Formula(cell) != formula {
			t.Errorf("%q: %v", cell, !formula)
		}
		for _, row := range [][]string{{cell, "x"}, {"x", cell}} {
			record := append(d.Record(row), '\n')
			if d.HasFormula(record) != formula || d.HasFormula(slices.Concat(bom, record)) != formula {
				t.Errorf("%q in a record, the first of a file or not: %v", row, !formula)
			}
		}
		if safe := Harmless(cell); Formula(safe) || strings.TrimPrefix(safe, "'") != cell {
			t.Errorf("%q is made harmless as %q", cell, safe)
		}
	}
	if wrapped := []byte("\"=1+1\",x\n"); !d.HasFormula(wrapped) {
		t.Errorf("%q has none", wrapped)
	}
}

// TestOverrule: what is said counts, and what cannot be is told.
func TestOverrule(t *testing.T) {
	say := func(s string) *string { return &s }
	no := false
	file := []byte("name;e-mail\nAda;ada@fernhollow.example\n")
	for _, c := range []struct {
		o    Overrule
		says string
	}{
		{Overrule{}, ""},
		{Overrule{Delimiter: say("")}, ""},
		{Overrule{Delimiter: say("--")}, "cannot be the delimiter between cells"},
		{Overrule{Delimiter: say("\n")}, "cannot be the delimiter between cells"},
		{Overrule{Quote: say("/")}, "cannot be the quote around cells"},
		{Overrule{Encoding: say("klingon")}, `The encoding "klingon" is not known. Known are: utf-8, `},
	} {
		err := c.o.Check()
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %v, want %q", c.o, err, c.says)
		}
	}
	g, err := GuessWith(file, Overrule{Delimiter: say(""), Quote: say(""), Encoding: say("koi8-r"), Header: &no})
	if want := (Dialect{Encoding: "koi8-r"}); err != nil || g.Dialect != want || len(g.Columns) != 1 {
		t.Errorf("guessed %+v, %v, want %+v", g, err, want)
	}
	if g, err := Guess(file); err != nil || !reflect.DeepEqual(g.Columns, []string{"name", "e-mail"}) {
		t.Errorf("columns %q, %v", g.Columns, err)
	}
}

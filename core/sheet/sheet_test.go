package sheet

import (
	"bytes"
	"errors"
	"io"
	"reflect"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"
	"unicode/utf8"
)

// odd are files as they are found, with what is to be made of them.
var odd = []struct {
	name, file string
	delimiter  string
	header     bool
	column     int
	cells      []string // of the first row's address column down
}{
	{"plain", "name,e-mail\nAda,ada@fernhollow.example\n", ",", true, 1, []string{"ada@fernhollow.example"}},
	{"semicolons and CRLF", "name;mail\r\nAda;ada@fernhollow.example\r\n", ";", true, 1, []string{"ada@fernhollow.example"}},
	{"tabs", "name\temail\nAda\tada@fernhollow.example\n", "\t", true, 1, []string{"ada@fernhollow.example"}},
	{"strokes", "Ada|ada@fernhollow.example\nBo|bo@fernhollow.example\n", "|", false, 1, []string{"ada@fernhollow.example", "bo@fernhollow.example"}},
	{"one address a line", "ada@fernhollow.example\nbo@fernhollow.example", "", false, 0, []string{"ada@fernhollow.example", "bo@fernhollow.example"}},
	{"byte order mark", "\ufeffe-mail,name\nada@fernhollow.example,Ada\n", ",", true, 0, []string{"ada@fernhollow.example"}},
	{"quoted line ends", "name,note,e-mail\nAda,\"two\nlines, \"\"quoted\"\"\",ada@fernhollow.example\nBo,,bo@fernhollow.example\n", ",", true, 2, []string{"ada@fernhollow.example", "bo@fernhollow.example"}},
	{"inch marks", "pot,e-mail\n5\" pots,ada@fernhollow.example\n6\" pots,bo@fernhollow.example\n", ",", true, 1, []string{"ada@fernhollow.example", "bo@fernhollow.example"}},
	{"ragged", "e-mail,a,b\nada@fernhollow.example\nbo@fernhollow.example,1,2,3,4\n", ",", true, 0, []string{"ada@fernhollow.example", "bo@fernhollow.example"}},
	{"blank lines", "\n\ne-mail,n\n\nada@fernhollow.example,1\n\n\nbo@fernhollow.example,2\n\n", ",", true, 0, []string{"ada@fernhollow.example", "bo@fernhollow.example"}},
	{"windows-1252", "Stra\xdfe,E-Mail\nB\xe4renweg,ada@fernhollow.example\n", ",", true, 1, []string{"ada@fernhollow.example"}},
	{"the name decides between equals", "a,e-mail\nx@fernhollow.example,y@fernhollow.example\n", ",", true, 1, []string{"y@fernhollow.example"}},
	{"commas in text with semicolons", "name;e-mail\n\"Moss, Ada\";ada@fernhollow.example\n\"Quince, Bo\";bo@fernhollow.example\n", ";", true, 1, []string{"ada@fernhollow.example", "bo@fernhollow.example"}},
	{"quoted delimiter in quotes at the end", "e-mail,crop\nada@fernhollow.example,\"Bean, \"\"Blue\"\"\"\nbo@fernhollow.example,\"\"\n", ",", true, 0, []string{"ada@fernhollow.example", "bo@fernhollow.example"}},
	{"an empty list with a plain header", "nr,Email\n", ",", true, 1, nil},
}

func TestGuessAndRead(t *testing.T) {
	for _, c := range odd {
		t.Run(c.name, func(t *testing.T) {
			g, err := Guess([]byte(c.file))
			if err != nil {
				t.Fatal(err)
			}
			if g.Dialect.Delimiter != c.delimiter || g.Dialect.Header != c.header || g.AddressColumn != c.column {
				t.Errorf("guessed %+v, address column %d", g.Dialect, g.AddressColumn)
			}
			var whole []byte
			var cells []string
			header := c.header
			r := NewReader(strings.NewReader(c.file), g.Dialect)
			for {
				rec, err := r.Next()
				if errors.Is(err, io.EOF) {
					break
				}
				if err != nil {
					t.Fatal(err)
				}
				whole = append(whole, rec.Raw...)
				switch {
				case rec.Blank():
				case header:
					header = false
				default:
					cell := g.Dialect.Cell(rec.Raw, g.AddressColumn)
					if all := g.Dialect.Cells(rec.Raw); all[g.AddressColumn] != cell {
						t.Errorf("Cell says %q, Cells %q", cell, all)
					}
					cells = append(cells, cell)
				}
			}
			if !reflect.DeepEqual(cells, c.cells) {
				t.Errorf("cells %q, want %q", cells, c.cells)
			}
			if string(whole) != c.file {
				t.Errorf("the records together are %q, not the file %q", whole, c.file)
			}
		})
	}
}

func TestCellTexts(t *testing.T) {
	d := Dialect{Delimiter: ",", Quote: `"`, Encoding: Windows1252}
	got := d.Cells([]byte("\xef\xbb\xbfa, b ,\"c\"\"d\",\"e,f\",\"\",B\xe4r,\"open\r\n"))
	want := []string{"a", " b ", `c"d`, "e,f", "", "Bär", `"open`}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
}

func TestGuessRefuses(t *testing.T) {
	for _, c := range []struct{ file, says string }{
		{"", "The file is empty."},
		{" \n\r\n", "The file is empty."},
		{"a,b\nc\x00\x00\x00,d\n", "line 2: 3 of the first 11 bytes are zero bytes"}, {"a,b\nc\x01,d\n", "line 2: the control character 1"},
		{strings.Repeat("x", MaxRecord+10), "line 1: a record longer than"},
	} {
		var e *Error
		if _, err := Guess([]byte(c.file)); !errors.As(err, &e) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%.20q: %v", c.file, err)
		}
	}
}

func TestEndlessQuoteNamesItsLine(t *testing.T) {
	r := NewReader(strings.NewReader("a,b\n1,2\n3,\""+strings.Repeat("y\n", MaxRecord)), Dialect{Delimiter: ",", Quote: `"`})
	var err error
	for err == nil {
		_, err = r.Next()
	}
	if !strings.Contains(err.Error(), "line 3: a record longer than") {
		t.Error(err)
	}
}

// FuzzReader holds that no byte is lost or added, however damaged the file,
// and that both ways of cutting cells agree.
func FuzzReader(f *testing.F) {
	for _, c := range odd {
		f.Add([]byte(c.file))
	}
	f.Add([]byte("\xff\xfe"))
	f.Add([]byte("\xff\xfea\x00,\x00\"\x00\x3c\xd8\x31\xdf\n\x00b\x00\n\x00"))
	f.Fuzz(func(t *testing.T, file []byte) {
		d := Dialect{Delimiter: ",", Quote: `"`, Encoding: UTF8}
		if g, err := Guess(file); err == nil {
			d = g.Dialect
		}
		var whole []byte
		r := NewReader(bytes.NewReader(file), d)
		for {
			rec, err := r.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return
			}
			whole = append(whole, rec.Raw...)
			for i, cell := range d.Cells(rec.Raw) {
				if other := d.Cell(rec.Raw, i); other != cell {
					t.Fatalf("cell %d is %q and %q", i, cell, other)
				}
			}
		}
		var back bytes.Buffer
		w := d.Writer(&back)
		if _, err := w.Write(whole); err != nil || w.Close() != nil || !bytes.Equal(back.Bytes(), file) {
			t.Fatalf("%q was read as %q and written as %q", file, whole, back.Bytes())
		}
	})
}

// TestHalfLettersAreRefused: what UTF-16 cannot hold would come back as something
// else, and is told with its line; what it holds comes back as it was.
func TestHalfLettersAreRefused(t *testing.T) {
	units := func(high bool, words ...string) (out []byte) {
		for _, w := range words {
			for _, u := range utf16.Encode([]rune(w)) {
				if high {
					out = append(out, byte(u>>8), byte(u))
				} else {
					out = append(out, byte(u), byte(u>>8))
				}
			}
		}
		return out
	}
	read := func(file []byte, encoding string) (string, error) {
		r, all := NewReader(bytes.NewReader(file), Dialect{Delimiter: ",", Encoding: encoding}), ""
		for {
			rec, err := r.Next()
			if errors.Is(err, io.EOF) {
				return all, nil
			}
			if err != nil {
				return all, err
			}
			all += string(rec.Raw)
		}
	}
	for encoding, high := range map[string]bool{UTF16LE: false, UTF16BE: true} {
		whole := units(high, "\ufeffname\n", strings.Repeat("seed \U0001f331,", 40_000), "\nend \ufffd\n")
		if text, err := read(whole, encoding); err != nil || utf8.RuneCountInString(text) != 6+40_000*7+7 {
			t.Errorf("%s: %d letters, %v", encoding, utf8.RuneCountInString(text), err)
		}
		pair := units(high, "\U0001f331")
		for what, damage := range map[string][]byte{"one byte": {'x'}, "a first half": pair[:2], "a second half": pair[2:], "two first halves": slices.Concat(pair[:2], pair[:2]), "three bytes of a pair": pair[:3]} {
			_, err := read(slices.Concat(units(high, "name\nada\n"), damage), encoding)
			if err == nil || !strings.HasPrefix(err.Error(), "line 3: half a letter of UTF-16") {
				t.Errorf("%s, %s at the end: %v", encoding, what, err)
			}
		}
		if _, err := read(slices.Concat(units(high, "name\n"), pair[2:], units(high, "ada\n")), encoding); err == nil || !strings.HasPrefix(err.Error(), "line 2: ") {
			t.Errorf("%s, half a letter within: %v", encoding, err)
		}
		if _, err := Guess(units(high, "\ufeff \n")); err == nil || !strings.Contains(err.Error(), "empty") {
			t.Errorf("%s, a mark alone: %v", encoding, err)
		}
	}
}

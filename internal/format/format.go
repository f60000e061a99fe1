// Package format takes files as people have them and gives them as a text
// table: spreadsheets, JSON, address books, directories, packed files. What a
// file is, is told by its content and never by its name.
//
//	t, err := format.Open(file, format.Options{})
//	defer t.Close()
//	// t reads as the text table; t.Kind says what it was
//
// A delimited text passes through byte for byte. Everything else becomes CSV in
// UTF-8 with a header. Errors are *sheet.Error: sentences with the remedy.
package format

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"varnet/core/sheet"
)

// Kind is what a file was.
type Kind string

// The kinds.
const (
	Text  Kind = "text" // delimited, or one address a line
	Free  Kind = "free text"
	XLSX  Kind = "xlsx"
	XLS   Kind = "xls" // a workbook of the kind before 2007
	ODS   Kind = "ods"
	JSON  Kind = "json" // an array of objects
	JSONL Kind = "json lines"
	VCard Kind = "vcard"
	LDIF  Kind = "ldif"
)

// Bounds. They hold for what is unpacked, too.
const (
	// MaxUnpacked is the most that a packed file may hold.
	MaxUnpacked = 4 << 30
	// maxSheet is the most that a spreadsheet, which must be read as a whole,
	// may take.
	maxSheet = 512 << 20
	// maxColumns is the most columns of what is no delimited text.
	maxColumns = 2000
	maxDepth   = 2 // a packed file in a packed file
)

// Options overrule what Open finds.
type Options struct {
	// Sheet is the sheet to read of a file that has several; "" for the first
	// that holds anything.
	Sheet string
}

// Table is a file as a text table.
type Table struct {
	io.Reader
	Kind Kind
	// Sheets are the names of the sheets, and Sheet is the one that is read.
	Sheets []string
	Sheet  string
	// Packed says what it was packed in, such as "members.xlsx in a zip file".
	Packed string

	closers []func()
}

// Close gives back what the table holds.
func (t *Table) Close() {
	for i := len(t.closers) - 1; i >= 0; i-- {
		t.closers[i]()
	}
}

// wrong is an error about the file as a whole.
func wrong(format string, args ...any) error {
	return &sheet.Error{Problem: fmt.Sprintf(format, args...)}
}

// Open looks at the file and gives it as a text table.
func Open(file io.Reader, o Options) (*Table, error) {
	t := &Table{Kind: Text}
	if err := t.open(file, o, 0); err != nil {
		t.Close()
		return nil, err
	}
	return t, nil
}

func (t *Table) open(file io.Reader, o Options, depth int) error {
	in := bufio.NewReaderSize(file, sheet.SampleSize)
	head, err := in.Peek(sheet.SampleSize)
	var told *sheet.Error
	switch {
	case errors.As(err, &told):
		return told
	case err != nil && !errors.Is(err, io.EOF):
		return fmt.Errorf("the file broke off while it was read: %w", err)
	}
	if depth > maxDepth {
		return wrong("The file is packed more than %d times over. Unpack it, and import what is in it.", maxDepth)
	}
	switch {
	case bytes.HasPrefix(head, []byte("\x1f\x8b")):
		return t.gunzip(in, o, depth)
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return t.zipped(in, o, depth)
	case bytes.HasPrefix(head, []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1")):
		return t.xls(in, o)
	}
	for magic, is := range strangers {
		if bytes.HasPrefix(head, []byte(magic)) {
			return wrong("This is %s and no list. Choose a file with one address a row.", is)
		}
	}
	return t.text(in, head)
}

// strangers begin files that hold no list.
var strangers = map[string]string{"%PDF": "a PDF document", "\x89PNG": "a picture", "\xff\xd8\xff": "a picture", "GIF8": "a picture",
	"Rar!": "a RAR file", "7z\xbc\xaf": "a 7z file", "\x7fELF": "a program", "MZ": "a program", "{\\rtf": "a text document (RTF)"}

// text tells the text formats apart.
func (t *Table) text(in *bufio.Reader, head []byte) error {
	plain := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	switch {
	case len(plain) > 1 && plain[0] == '{' && bytes.HasPrefix(bytes.TrimLeft(plain[1:], " \t\r\n"), []byte(`"`)):
		return t.objects(in, JSONL)
	case len(plain) > 1 && plain[0] == '[' && bytes.HasPrefix(bytes.TrimLeft(plain[1:], " \t\r\n"), []byte("{")):
		return t.objects(in, JSON)
	case hasFoldedPrefix(plain, "BEGIN:VCARD"):
		return t.records(in, VCard, readCard)
	case hasFoldedPrefix(plain, "dn:"), hasFoldedPrefix(plain, "version:") && bytes.Contains(plain, []byte("\ndn:")):
		return t.records(in, LDIF, readEntry)
	}
	t.Reader = in
	return nil
}

func hasFoldedPrefix(b []byte, prefix string) bool {
	return len(b) >= len(prefix) && strings.EqualFold(string(b[:len(prefix)]), prefix)
}

func (t *Table) gunzip(in io.Reader, o Options, depth int) error {
	z, err := gzip.NewReader(in)
	if err != nil {
		return wrong("The gzip file is damaged at its beginning. Pack it again.")
	}
	t.Packed = "in a gzip file"
	if z.Name != "" {
		t.Packed = z.Name + " in a gzip file"
	}
	return t.open(bounded(z, "gzip file"), o, depth+1)
}

// bounded reads at most MaxUnpacked, and says so in a sentence.
func bounded(r io.Reader, what string) io.Reader {
	return &limit{r, MaxUnpacked, wrong("The %s holds more than %d GB. Split it into smaller ones.", what, MaxUnpacked>>30), what}
}

type limit struct {
	r    io.Reader
	left int64
	over error
	what string
}

func (l *limit) Read(b []byte) (int, error) {
	if l.left <= 0 {
		return 0, l.over
	}
	n, err := l.r.Read(b[:min(int64(len(b)), l.left)])
	l.left -= int64(n)
	if err != nil && !errors.Is(err, io.EOF) {
		err = wrong("The %s is damaged: what is in it cannot be unpacked to the end. Pack it again.", l.what)
	}
	return n, err
}

// spool puts a file that must be read here and there into a temporary one.
func (t *Table) spool(in io.Reader, most int64) (*os.File, int64, error) {
	f, err := os.CreateTemp("", "varnet-*")
	if err != nil {
		return nil, 0, err
	}
	t.closers = append(t.closers, func() { _ = f.Close(); _ = os.Remove(f.Name()) })
	n, err := io.Copy(f, io.LimitReader(in, most+1))
	if err == nil && n > most {
		err = wrong("The file is larger than %d MB, and one of its kind must be read as a whole. Save it as CSV and bring that in.", most>>20)
	}
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	return f, n, err
}

// Package format takes files as people have them and gives them as a text
// table: spreadsheets, JSON, address books, directories, packed files. What a
// file is, is told by its content and never by its name.
//
//	t, err := format.Open(ctx, file, format.Options{})
//	defer t.Close()
//	// t reads as the text table; t.Kind says what it was
//
// A delimited text passes through byte for byte. Everything else becomes CSV in
// UTF-8 with a header, read in a process of its own (apart.go) so that no file takes more than
// its share of memory and time. Errors are *sheet.Error: sentences with the remedy.
package format

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
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

// titles are what people know the kinds as; of a text it is told how it is delimited instead.
var titles = map[Kind]string{Free: "A text from which the addresses are drawn", XLSX: "An XLSX spreadsheet", XLS: "An XLS spreadsheet", ODS: "An OpenDocument spreadsheet",
	JSON: "A JSON array", JSONL: "JSON Lines", VCard: "An address book (vCard)", LDIF: "A directory (LDIF)"}

// Title is what people know the kind as; "" of a text.
func (k Kind) Title() string { return titles[k] }

// Bounds. They hold for what is unpacked, too.
const (
	// MaxUnpacked is the most that a packed file may hold.
	MaxUnpacked = 4 << 30
	// maxSheet is the most that a spreadsheet, which must be read as a whole,
	// may take.
	maxSheet = 512 << 20
	// maxColumns is the most columns of what is not delimited text.
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

	// whole is the file itself where it can be read here and there as it is.
	whole   *os.File
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

// Open looks at the file and gives it as a text table. A file on disk is read from its
// beginning, any other from where it is; what is not text is read whole before anything is made
// of it. The reading ends with ctx.
func Open(ctx context.Context, file io.Reader, o Options) (*Table, error) {
	t := &Table{Kind: Text}
	if err := t.begin(ctx, file, o); err != nil {
		t.Close()
		return nil, err
	}
	return t, nil
}

// begin reads a text here, and everything else apart.
func (t *Table) begin(ctx context.Context, file io.Reader, o Options) error {
	in, head, err := peeked(file)
	if err != nil {
		return err
	}
	if is, _ := kindOf(head); is == plainText {
		t.Reader = in
		return nil
	}
	onDisk, is := file.(*os.File)
	if !is {
		if onDisk, _, err = t.spool(in, MaxUnpacked); err != nil {
			return err
		}
	}
	if _, err := onDisk.Seek(0, io.SeekStart); err != nil {
		return err
	}
	return t.apart(ctx, onDisk, o)
}

// peeked returns a file and its beginning.
func peeked(file io.Reader) (*bufio.Reader, []byte, error) {
	in := bufio.NewReaderSize(file, sheet.SampleSize)
	head, err := in.Peek(sheet.SampleSize)
	var told *sheet.Error
	switch {
	case errors.As(err, &told):
		return nil, nil, told
	case err != nil && !errors.Is(err, io.EOF):
		return nil, nil, fmt.Errorf("the file broke off while it was read: %w", err)
	}
	return in, head, nil
}

// open reads a file of any kind.
func (t *Table) open(file io.Reader, o Options, depth int) error {
	in, head, err := peeked(file)
	if err != nil {
		return err
	}
	if depth > maxDepth {
		return wrong("The file is packed more than %d times over. Unpack it, and import what is in it.", maxDepth)
	}
	t.whole = nil
	if f, is := file.(*os.File); is {
		t.whole = f
	}
	switch is, what := kindOf(head); is {
	case gzipped:
		return t.gunzip(in, o, depth)
	case zipped:
		return t.zipped(in, o, depth)
	case compound:
		return t.xls(in, o)
	case stranger:
		return wrong("This is %s and no list. Choose a file with one address a row.", what)
	case objects:
		return t.objects(in, JSON)
	case objectLines:
		return t.objects(in, JSONL)
	case cards:
		return t.records(in, VCard, readCard)
	case entries:
		return t.records(in, LDIF, readEntry)
	}
	t.Reader = in
	return nil
}

// look is what a file looks like from its beginning.
type look int

// The looks.
const (
	plainText look = iota
	gzipped
	zipped
	compound // a compound file ([MS-CFB])
	stranger
	objects
	objectLines
	cards
	entries
)

// kindOf tells files apart by their beginning, and says what a stranger is.
func kindOf(head []byte) (is look, what string) {
	switch {
	case bytes.HasPrefix(head, []byte("\x1f\x8b")):
		return gzipped, ""
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return zipped, ""
	case bytes.HasPrefix(head, []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1")):
		return compound, ""
	}
	for magic, what := range strangers {
		if bytes.HasPrefix(head, []byte(magic)) {
			return stranger, what
		}
	}
	plain := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	switch {
	case len(plain) > 1 && plain[0] == '{' && bytes.HasPrefix(bytes.TrimLeft(plain[1:], " \t\r\n"), []byte(`"`)):
		return objectLines, ""
	case len(plain) > 1 && plain[0] == '[' && bytes.HasPrefix(bytes.TrimLeft(plain[1:], " \t\r\n"), []byte("{")):
		return objects, ""
	case hasFoldedPrefix(plain, "BEGIN:VCARD"):
		return cards, ""
	case hasFoldedPrefix(plain, "dn:"), hasFoldedPrefix(plain, "version:") && bytes.Contains(plain, []byte("\ndn:")):
		return entries, ""
	}
	return plainText, ""
}

// strangers begin files that hold no list.
var strangers = map[string]string{"%PDF": "a PDF document", "\x89PNG": "a picture", "\xff\xd8\xff": "a picture", "GIF8": "a picture",
	"Rar!": "a RAR file", "7z\xbc\xaf": "a 7z file", "\x7fELF": "a program", "MZ": "a program", "{\\rtf": "a text document (RTF)"}

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
	return &unpacking{r, MaxUnpacked, wrong("The %s holds more than %d GB. Split it into smaller ones.", what, MaxUnpacked>>30), what}
}

// unpacking is what comes out of a packed file.
type unpacking struct {
	r    io.Reader
	left int64
	over error
	what string
}

func (l *unpacking) Read(b []byte) (int, error) {
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

// spool puts a file that must be read here and there into a temporary one, unless it is one.
func (t *Table) spool(in io.Reader, most int64) (f *os.File, size int64, err error) {
	if f = t.whole; f != nil {
		size, err = f.Seek(0, io.SeekEnd)
	} else if f, err = os.CreateTemp("", "varnet-*"); err == nil {
		t.closers = append(t.closers, func() { _ = f.Close() })
		_ = os.Remove(f.Name()) // it is gone with the process
		size, err = io.Copy(f, io.LimitReader(in, most+1))
	}
	if err == nil && size > most {
		err = wrong("The file is larger than %d MB, and one of its kind must be read as a whole. Save it as CSV and import that.", most>>20)
	}
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	return f, size, err
}

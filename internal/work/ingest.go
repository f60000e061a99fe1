package work

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/sheet"
	"varnet/internal/format"
	"varnet/internal/store"
)

// Intake is a file on its way in.
type Intake struct {
	Workspace int64
	Name      string
	FileName  string
	// AddressColumn overrules the guess; nil leaves it to Varnet.
	AddressColumn *int
	// Sheet chooses the sheet of a spreadsheet; "" leaves it to Varnet.
	Sheet string
	// Overrule settles what of the dialect is not to be guessed.
	Overrule sheet.Overrule
	// SameMailbox tells duplicates by what the operator takes for the same
	// mailbox, leaving dots or tags out where it is known to.
	SameMailbox bool
}

// Ingest brings a file in as a list, all of it or nothing. Memory stays flat:
// rows go from the file to the database one by one; only a fingerprint of each
// different address is held, for the duplicates.
func (e *Engine) Ingest(ctx context.Context, in Intake, body io.Reader) (store.List, error) {
	read, err := Read(body, in.Sheet, in.Overrule)
	if err != nil {
		return store.List{}, err
	}
	defer read.Close()
	file, g := read.Rest, read.Guessed
	l, err := in.list(read)
	if err != nil {
		return store.List{}, err
	}
	known, err := e.catalogue(ctx, in.Workspace)
	if err != nil {
		return store.List{}, err
	}
	err = e.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		r := newRowReader(file, &l, known)
		r.grammar, r.sameMailbox = e.Grammar, in.SameMailbox
		header, err := r.header()
		if err != nil {
			return err
		}
		l.Header = header
		return inOrder(
			func() error { return s.CreateList(ctx, &l) },
			func() error { return s.CopyRows(ctx, l.ID, r.next) },
			func() error { return r.check(g) },
			func() error { return s.CompleteList(ctx, &l, r.domains) },
		)
	})
	return l, err
}

// Reading is a file that was opened and looked at.
type Reading struct {
	*format.Table
	sheet.Guessed
	// Rest is the whole of it as a text table.
	Rest *bufio.Reader
}

// Read opens a file of any format and guesses how its table is written. What
// is no delimited text has become CSV; of its dialect only the header is left
// to be overruled. Text is taken for prose only while nobody says otherwise.
func Read(body io.Reader, sheetName string, o sheet.Overrule) (*Reading, error) {
	t, err := format.Open(body, format.Options{Sheet: sheetName})
	if err != nil {
		return nil, err
	}
	r := &Reading{Table: t}
	sample, err := r.look(o)
	left := o.Delimiter == nil && o.Quote == nil && o.Encoding == nil
	if err == nil && t.Kind == format.Text && left && format.Prose(sample, r.Guessed) {
		t.Draw(r.Rest)
		_, err = r.look(o)
	}
	if err != nil {
		t.Close()
		return nil, err
	}
	return r, nil
}

// look guesses how the table is written from its beginning.
func (r *Reading) look(o sheet.Overrule) (sample []byte, err error) {
	if r.Kind != format.Text {
		comma, quote, utf8 := ",", `"`, sheet.UTF8
		o = sheet.Overrule{Delimiter: &comma, Quote: &quote, Encoding: &utf8, Header: o.Header}
	}
	r.Rest = bufio.NewReaderSize(r.Reader, sheet.SampleSize) // what it reads from now: Draw puts another in its place
	sample, err = r.Rest.Peek(sheet.SampleSize)
	var inFile *sheet.Error
	switch {
	case errors.As(err, &inFile):
		return nil, inFile
	case err != nil && !errors.Is(err, io.EOF):
		return nil, fmt.Errorf("the file broke off while it was read: %w", err)
	}
	r.Guessed, err = sheet.GuessWith(sample, o)
	return sample, err
}

// list settles what the guess leaves open.
func (in Intake) list(g *Reading) (store.List, error) {
	l := store.List{WorkspaceID: in.Workspace, Name: strings.TrimSpace(in.Name), FileName: in.FileName,
		Format: string(g.Kind), Sheet: g.Sheet, Packed: g.Packed,
		Dialect: g.Dialect, Columns: g.Columns, AddressColumn: g.AddressColumn}
	if l.Name == "" {
		l.Name = in.FileName
	}
	if l.Name == "" {
		l.Name = "Unnamed list"
	}
	if in.AddressColumn != nil {
		l.AddressColumn = *in.AddressColumn
	}
	switch {
	case l.AddressColumn < 0:
		return l, g.NoAddressColumn()
	case l.AddressColumn >= len(g.Columns):
		return l, &sheet.Error{Problem: fmt.Sprintf("The file has %d columns; there is no column %d.", len(g.Columns), l.AddressColumn+1)}
	}
	return l, nil
}

// rowReader turns a file into rows.
type rowReader struct {
	file      *sheet.Reader
	list      *store.List
	catalogue *catalogue.Catalogue
	seeds     [2]maphash.Seed
	first     map[[16]byte]int32 // ordinal of the first row, by fingerprint of the address
	domains   map[string]int32
	grammar   address.Grammar
	// sameMailbox is the intake's.
	sameMailbox bool
	ahead       *store.Row // the next row, read while looking for blank lines
}

func newRowReader(file io.Reader, l *store.List, c *catalogue.Catalogue) *rowReader {
	return &rowReader{file: sheet.NewReader(file, l.Dialect), list: l, catalogue: c,
		seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()},
		first: map[[16]byte]int32{}, domains: map[string]int32{}}
}

// header reads all that stands before the first row: a byte order mark, blank
// lines and the header record.
func (r *rowReader) header() ([]byte, error) {
	head := []byte{}
	wanted := r.list.Dialect.Header
	for {
		rec, err := r.file.Next()
		if errors.Is(err, io.EOF) {
			return head, nil
		}
		if err != nil {
			return nil, err
		}
		raw := rec.Raw
		if len(head) == 0 {
			mark := sheet.Mark(raw)
			head, raw = append(head, mark...), raw[len(mark):]
			rec.Raw = raw
		}
		switch {
		case rec.Blank():
			head = append(head, raw...)
		case wanted:
			head, wanted = append(head, raw...), false
		default:
			r.ahead = r.row(rec)
			return head, nil
		}
	}
}

// next gives the next row with the blank lines after it, nil after the last.
func (r *rowReader) next() (*store.Row, error) {
	row := r.ahead
	r.ahead = nil
	for row != nil {
		rec, err := r.file.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if !rec.Blank() {
			r.ahead = r.row(rec)
			break
		}
		row.Tail = append(row.Tail, rec.Raw...)
	}
	return row, nil
}

func (r *rowReader) row(rec sheet.Record) *store.Row {
	l := r.list
	l.Rows++
	row := &store.Row{Ordinal: int32(l.Rows), Line: rec.Line, Raw: append([]byte(nil), rec.Raw...)}
	row.Typed = strings.ReplaceAll(l.Dialect.Cell(rec.Raw, l.AddressColumn), "\x00", "\ufffd")
	if strings.TrimSpace(row.Typed) == "" {
		l.Blank++
		return row
	}
	a, err := r.grammar.Parse(row.Typed)
	identity := strings.TrimSpace(row.Typed)
	if err == nil {
		identity = a.Identity(r.sameness(a.Domain))
	}
	if row.Address = r.firstRow(identity, row.Ordinal); row.Address != row.Ordinal {
		l.Duplicates++
		return row
	}
	var wrong *address.Error
	if errors.As(err, &wrong) {
		l.Malformed++
		row.Problem = &store.Problem{Cause: string(wrong.Cause), Position: wrong.Position, Reason: wrong.Reason}
		return row
	}
	l.Addresses++
	if row.Mended = a.Mended; len(a.Mended) > 0 {
		l.Mended++
	}
	row.Mailbox, row.Domain = a.Mailbox(), a.Domain
	for _, t := range r.catalogue.Traits(a) {
		row.Traits = append(row.Traits, string(t))
	}
	r.domains[a.Domain]++
	return row
}

func (r *rowReader) sameness(domain string) address.Sameness {
	if r.sameMailbox {
		return r.catalogue.Sameness(domain)
	}
	return address.Sameness{}
}

// firstRow gives the ordinal of the first row with this identity. Identities
// are told apart by 128 bits of two keyed hashes; that two different ones of a
// list of 10 million agree has odds of 1 to 10^24.
func (r *rowReader) firstRow(identity string, ordinal int32) int32 {
	var f [16]byte
	binary.LittleEndian.PutUint64(f[:8], maphash.String(r.seeds[0], identity))
	binary.LittleEndian.PutUint64(f[8:], maphash.String(r.seeds[1], identity))
	if first, ok := r.first[f]; ok {
		return first
	}
	r.first[f] = ordinal
	return ordinal
}

// check refuses a file that turned out to hold no address.
func (r *rowReader) check(g sheet.Guessed) error {
	switch {
	case r.list.Rows == 0:
		return &sheet.Error{Problem: "The file has a header but no rows. Choose a file with one address a row."}
	case r.list.Addresses == 0:
		return g.NoAddressColumn()
	}
	return nil
}

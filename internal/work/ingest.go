package work

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"varnet/core/sheet"
	"varnet/internal/format"
	"varnet/internal/store"
)

// Intake is a file on its way in.
type Intake struct {
	Workspace int64
	Name      string
	FileName  string
	// AddressColumns overrules the guess; none leaves it to Varnet.
	AddressColumns []int
	// Sheet chooses the sheet of a spreadsheet; "" leaves it to Varnet.
	Sheet string
	// Overrule settles what of the dialect is not to be guessed.
	Overrule sheet.Overrule
	// SameMailbox tells duplicates by what the operator takes for the same
	// mailbox, leaving dots or tags out where it is known to.
	SameMailbox bool
	// Key brings the list in once; "" as often as it is sent.
	Key string
}

// Ingest brings a file in as a list, all of it or nothing. Memory stays flat:
// rows go from the file to the database one by one; only a fingerprint of each
// different address is held, for the duplicates.
func (e *Engine) Ingest(ctx context.Context, in Intake, body io.Reader) (store.List, error) {
	read, l, err := in.open(body)
	if err != nil {
		return l, err
	}
	defer read.Close()
	err = e.bringIn(ctx, in, &l, read.Rest, read.NoAddressColumn)
	return l, err
}

// open looks at a file and settles the list that it will be.
func (in Intake) open(body io.Reader) (*Reading, store.List, error) {
	read, err := Read(body, in.Sheet, in.Overrule)
	if err != nil {
		return nil, store.List{}, err
	}
	l, err := in.list(read)
	if err != nil {
		read.Close()
		return nil, store.List{}, err
	}
	return read, l, nil
}

// bringIn brings the rows of a file in as a list that is settled.
func (e *Engine) bringIn(ctx context.Context, in Intake, l *store.List, file io.Reader, noAddress func() error) error {
	known, err := e.catalogue(ctx, in.Workspace)
	if err != nil {
		return err
	}
	reading, done := context.WithCancel(ctx)
	defer done()
	return e.Store.InTx(ctx, func(s *store.Store, _ pgx.Tx) error {
		records := newRecordReader(file, l, e.Grammar)
		if l.Header, err = records.header(); err != nil {
			return err
		}
		r := newRowReader(ahead(reading, records.next), l, known)
		r.sameMailbox = in.SameMailbox
		return inOrder(
			func() error { return s.CreateList(ctx, l) },
			func() error { return s.CopyRows(ctx, l.ID, ahead(reading, r.next)) },
			func() error { return r.check(noAddress) },
			func() error { return s.CompleteList(ctx, l, r.members()) },
		)
	})
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
	l := store.List{WorkspaceID: in.Workspace, Key: in.Key, Name: strings.TrimSpace(in.Name), FileName: in.FileName,
		Format: string(g.Kind), Sheet: g.Sheet, Packed: g.Packed,
		Dialect: g.Dialect, Columns: g.Columns, AddressColumns: in.AddressColumns, Kinds: g.Kinds}
	if l.Name == "" {
		l.Name = in.FileName
	}
	if l.Name == "" {
		l.Name = "Unnamed list"
	}
	if len(l.AddressColumns) == 0 {
		if g.AddressColumn < 0 {
			return l, g.NoAddressColumn()
		}
		l.AddressColumns = g.AddressColumns()
	} else if err := checkColumns(l); err != nil {
		return l, err
	} else {
		l.AddressColumns = nil
		for _, c := range in.AddressColumns {
			l.AddressColumns = append(l.AddressColumns, g.Slots(c)...)
		}
	}
	l.AddressColumns = l.AddressColumns[:min(len(l.AddressColumns), maxAddressColumns)]
	return l, nil
}

// maxAddressColumns bounds the address columns of a list.
const maxAddressColumns = 8

// checkColumns refuses address columns that cannot be.
func checkColumns(l store.List) error {
	if len(l.AddressColumns) > maxAddressColumns {
		return &sheet.Error{Problem: fmt.Sprintf("%d address columns are named; %d are the most.", len(l.AddressColumns), maxAddressColumns)}
	}
	for i, c := range l.AddressColumns {
		switch {
		case c < 0 || c >= len(l.Columns):
			return &sheet.Error{Problem: fmt.Sprintf("The file has %d columns; there is no column %d.", len(l.Columns), c+1)}
		case slices.Contains(l.AddressColumns[:i], c):
			return &sheet.Error{Problem: fmt.Sprintf("Column %d is named twice.", c+1)}
		}
	}
	return nil
}

// check refuses a file that turned out to hold no address.
func (r *rowReader) check(noAddress func() error) error {
	switch {
	case r.list.Rows == 0:
		return &sheet.Error{Problem: "The file has a header but no rows. Choose a file with one address a row."}
	case r.list.Addresses == 0:
		return noAddress()
	}
	return nil
}

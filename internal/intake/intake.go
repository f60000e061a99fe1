// Package intake imports files of every format as lists: which table is in them, how it is
// written, where its addresses are; rows as they stand, told apart by their addresses; and
// newer files for a list that is there.
package intake

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/format"
	"varnet/internal/store"
)

// File is a file to import, and how.
type File struct {
	Workspace int64
	Name      string
	FileName  string
	// AddressColumns overrules the guess; none leaves it to Varnet.
	AddressColumns []int
	// Sheet chooses the sheet of a spreadsheet; "" leaves it to Varnet.
	Sheet string
	// Overrule settles what of the dialect is not to be guessed.
	Overrule sheet.Overrule
	// Holds is what columns hold; none: what their names tell.
	Holds []sheet.NamedMeaning
	// SameMailbox tells duplicates by what the operator takes for the same
	// mailbox, leaving dots or tags out where it is known to.
	SameMailbox bool
	// Key imports the list once; "" as often as it is sent.
	Key string
	// ConnectionID and Collection are where it comes from; nil: a file.
	ConnectionID *int64
	Collection   string
	// MadeOf is of what it was made in the workshop, a sentence a step.
	MadeOf []string
	// Quiet: what imports it tells of it itself.
	Quiet bool
}

// Importer imports files as lists.
type Importer struct {
	Store   *store.Store
	Grammar address.Grammar
	// Catalogue returns the catalogue of a workspace.
	Catalogue func(ctx context.Context, workspace int64) (*catalogue.Catalogue, error)
	// Imported is called with the transaction in which a list is imported.
	Imported func(ctx context.Context, s *store.Store, tx pgx.Tx, l store.List, f File) error

	// GiveWay waits between pieces of a file for what somebody waits for; nil: it does not.
	GiveWay func(context.Context)

	gatherAtMost int // of a test; 0: gatheredAtMost
}

// Import imports a file as a list, all of it or nothing. Memory stays flat: rows go from
// the file to the database one by one; only a fingerprint of each different address is
// held, for the duplicates.
func (i *Importer) Import(ctx context.Context, f File, body io.Reader) (store.List, error) {
	read, l, err := f.open(ctx, body)
	if err != nil {
		return l, err
	}
	defer read.Close()
	err = i.rows(ctx, f, &l, read.Rest, read.NoAddressColumn)
	return l, err
}

// open looks at a file and settles the list that it will be.
func (f File) open(ctx context.Context, body io.Reader) (*Reading, store.List, error) {
	read, err := Read(ctx, body, f.Sheet, f.Overrule)
	if err != nil {
		return nil, store.List{}, err
	}
	l, err := f.list(read)
	if err != nil {
		read.Close()
		return nil, store.List{}, err
	}
	return read, l, nil
}

// rows imports the rows of a file as a list that is settled.
func (i *Importer) rows(ctx context.Context, f File, l *store.List, file io.Reader, noAddress func() error) error {
	known, err := i.Catalogue(ctx, f.Workspace)
	if err != nil {
		return err
	}
	left, most, err := i.Store.RowsLeft(ctx, f.Workspace)
	if err != nil {
		return err
	}
	reading, done := context.WithCancel(ctx)
	defer done()
	return i.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		records := newRecordReader(file, l, i.Grammar)
		if records.gone, err = s.Gone(ctx, f.Workspace); err != nil {
			return err
		}
		if l.Header, err = records.header(); err != nil {
			return err
		}
		r := newRowReader(ahead(reading, i.givingWay(reading, records.next), (*record).size), l, known)
		r.sameMailbox, r.gatherAtMost = f.SameMailbox, cmp.Or(i.gatherAtMost, gatheredAtMost)
		if left != nil {
			r.left, r.most = *left, *most
		}
		if err := s.CreateList(ctx, l); err != nil {
			return err
		}
		if err := r.copyTo(reading, s, l.ID); err != nil {
			return err
		}
		if err := r.check(noAddress); err != nil {
			return err
		}
		if err := s.CompleteList(ctx, l, r.sizes); err != nil {
			return err
		}
		// Another file may have come in meanwhile.
		if left, _, err := s.RowsLeft(ctx, f.Workspace); err != nil {
			return err
		} else if left != nil && *left < 0 {
			return r.tooMany()
		}
		return i.Imported(ctx, s, tx, *l, f)
	})
}

// givingWay is next, which gives way now and then.
func (i *Importer) givingWay(ctx context.Context, next func() (*record, error)) func() (*record, error) {
	if i.GiveWay == nil {
		return next
	}
	n := 0
	return func() (*record, error) {
		if n++; n%aheadOf == 0 {
			i.GiveWay(ctx)
		}
		return next()
	}
}

// copyTo writes the rows to the database, and the addresses of their domains whenever some were gathered.
func (r *rowReader) copyTo(ctx context.Context, s *store.Store, list int64) error {
	next := ahead(ctx, r.next, rowSize)
	for ended := false; !ended; {
		var gathered []map[string]*store.Members
		err := s.CopyRows(ctx, list, func() (row *store.Row, err error) {
			if gathered = r.gatherings.take(); len(gathered) > 0 {
				return nil, nil
			}
			row, err = next()
			ended = row == nil
			return row, err
		})
		if err != nil {
			return err
		}
		if ended {
			gathered = append(r.gatherings.take(), r.members())
		}
		for _, g := range gathered {
			if err := s.AddMembers(ctx, list, g); err != nil {
				return err
			}
		}
	}
	return nil
}

// mostRows is how many rows a list may have where its workspace may have any number: what is
// remembered of each while the file is read must fit in memory.
const mostRows = 12_000_000

// TooManyRows tells that a list, or its workspace, would have more rows than it may.
type TooManyRows struct {
	Left, Most int64 // of the workspace; Most is 0 where the list alone would have too many
}

func (t *TooManyRows) Error() string {
	if t.Most == 0 {
		return fmt.Sprintf("A list may have %s rows, and the file has more. Nothing was imported. Split it into smaller ones.", say.Number(int64(mostRows)))
	}
	return fmt.Sprintf("This workspace may have %s rows in all its lists, and the file has more than the %s that are left. Nothing was imported. Delete lists that are not needed, or ask an owner of the installation for more.",
		say.Number(t.Most), say.Number(max(0, t.Left)))
}

// Reading is a file that was opened and looked at.
type Reading struct {
	*format.Table
	sheet.Guessed
	// Rest is the whole of it as a text table.
	Rest *bufio.Reader
	// Head is its header record, once Records has come past it.
	Head []byte
}

// Read opens a file of any format and guesses how its table is written. What
// is not delimited text has become CSV; of its dialect only the header is left
// to be overruled. Text is taken for prose only while nobody says otherwise.
func Read(ctx context.Context, body io.Reader, sheetName string, o sheet.Overrule) (*Reading, error) {
	t, err := format.Open(ctx, body, format.Options{Sheet: sheetName})
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

// Next returns what reads the rows of the table one by one: what is neither its header nor blank, without
// a byte order mark. Each is good until the next; behind the last is io.EOF.
func (r *Reading) Next() func() (sheet.Record, error) {
	in, header := sheet.NewReader(r.Rest, r.Dialect), r.Dialect.Header
	return func() (sheet.Record, error) {
		for {
			rec, err := in.Next()
			switch {
			case err != nil:
				return rec, err
			case rec.Blank():
				continue
			case header:
				header, r.Head = false, bytes.Clone(rec.Raw)
				continue
			}
			rec.Raw = rec.Raw[len(sheet.Mark(rec.Raw)):]
			return rec, nil
		}
	}
}

// Records returns the rows of the table, as Next reads them.
func (r *Reading) Records() iter.Seq2[sheet.Record, error] {
	return func(yield func(sheet.Record, error) bool) {
		for next := r.Next(); ; {
			rec, err := next()
			if errors.Is(err, io.EOF) || !yield(rec, err) || err != nil {
				return
			}
		}
	}
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
func (f File) list(g *Reading) (store.List, error) {
	l := store.List{WorkspaceID: f.Workspace, Key: f.Key, Name: strings.TrimSpace(f.Name), FileName: f.FileName,
		Format: string(g.Kind), Sheet: g.Sheet, Packed: g.Packed,
		Dialect: g.Dialect, Columns: g.Columns, AddressColumns: f.AddressColumns, Kinds: g.Kinds,
		ConnectionID: f.ConnectionID, Collection: f.Collection, MadeOf: f.MadeOf}
	if l.Name == "" {
		l.Name = f.FileName
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
		for _, c := range f.AddressColumns {
			l.AddressColumns = append(l.AddressColumns, g.Slots(c)...)
		}
	}
	l.AddressColumns = l.AddressColumns[:min(len(l.AddressColumns), maxAddressColumns)]
	if len(f.Holds) == 0 {
		return l, nil
	}
	var err error
	if l.Meanings, err = sheet.MeaningsOf(l.Columns, f.Holds); err != nil {
		return l, &sheet.Error{Problem: say.Sentence(err.Error())}
	}
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
	case r.list.Addresses == 0 && r.list.Erased > 0:
		return &sheet.Error{Problem: "All addresses of the file were erased because the persons they belong to asked for it. Nothing was imported."}
	case r.list.Addresses == 0:
		return noAddress()
	}
	return nil
}

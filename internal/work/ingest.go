package work

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/finding"
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
	return e.Store.InTx(ctx, func(s *store.Store, tx pgx.Tx) error {
		r := newRowReader(file, l, known)
		r.grammar, r.sameMailbox = e.Grammar, in.SameMailbox
		header, err := r.header()
		if err != nil {
			return err
		}
		l.Header = header
		return inOrder(
			func() error { return s.CreateList(ctx, l) },
			func() error { return s.CopyRows(ctx, l.ID, ahead(reading, r.next)) },
			func() error { return r.check(noAddress) },
			func() error { return s.CompleteList(ctx, l, r.members()) },
			func() error { return e.makeTexts(ctx, tx, l.ID) },
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
		l.AddressColumns = []int{g.AddressColumn}
	}
	return l, checkColumns(l)
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

// Rows are read ahead in so many batches of so many, while those before them
// are written.
const (
	aheadBatches = 4
	aheadRows    = 512
)

// ahead reads rows beside their writing. When the writing ends early, so does
// the reading with ctx.
func ahead(ctx context.Context, next func() (*store.Row, error)) func() (*store.Row, error) {
	type batch struct {
		rows []*store.Row
		err  error
	}
	batches := make(chan batch, aheadBatches)
	go func() {
		defer close(batches)
		for more := true; more; {
			b := batch{rows: make([]*store.Row, 0, aheadRows)}
			for len(b.rows) < aheadRows && more {
				var row *store.Row
				row, b.err = next()
				if more = row != nil && b.err == nil; more {
					b.rows = append(b.rows, row)
				}
			}
			select {
			case batches <- b:
			case <-ctx.Done():
				return
			}
		}
	}()
	var now batch
	return func() (*store.Row, error) {
		for len(now.rows) == 0 {
			var ok bool
			if now.err != nil {
				return nil, now.err
			}
			if now, ok = <-batches; !ok {
				return nil, ctx.Err()
			}
		}
		row := now.rows[0]
		now.rows = now.rows[1:]
		return row, nil
	}
}

// rowReader turns a file into rows.
type rowReader struct {
	file      *sheet.Reader
	list      *store.List
	catalogue *catalogue.Catalogue
	seeds     [2]maphash.Seed
	first     map[[16]byte]int32 // ordinal of the first row, by fingerprint of the address
	domains   map[string]*seenDomain
	grammar   address.Grammar
	// sameMailbox is the intake's.
	sameMailbox bool
	ahead       []*store.Row // the cells of the next row, read while looking for blank lines
	queue       []*store.Row // the other cells of the row before it
	cells       int32        // read so far
	// What many rows need is taken from one piece of memory.
	spareRows  []store.Row
	spareBytes []byte
}

func newRowReader(file io.Reader, l *store.List, c *catalogue.Catalogue) *rowReader {
	return &rowReader{file: sheet.NewReader(file, l.Dialect), list: l, catalogue: c,
		seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()},
		first: map[[16]byte]int32{}, domains: map[string]*seenDomain{}}
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

// next gives the next address cell, the first of a row with the blank lines
// after the row; nil after the last.
func (r *rowReader) next() (*store.Row, error) {
	if len(r.queue) == 0 {
		r.queue, r.ahead = r.ahead, nil
		if len(r.queue) == 0 {
			return nil, nil
		}
		if err := r.readOn(r.queue[0]); err != nil {
			return nil, err
		}
	}
	cell := r.queue[0]
	r.queue = r.queue[1:]
	return cell, nil
}

// readOn reads the blank lines after a row, and the row after them.
func (r *rowReader) readOn(row *store.Row) error {
	for {
		rec, err := r.file.Next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case !rec.Blank():
			r.ahead = r.row(rec)
			return nil
		}
		row.Tail = append(row.Tail, rec.Raw...)
	}
}

// row reads the address cells of a record.
func (r *rowReader) row(rec sheet.Record) []*store.Row {
	l := r.list
	l.Rows++
	out := make([]*store.Row, len(l.AddressColumns))
	filled, first := false, false
	for i, column := range l.AddressColumns {
		c := r.cell(l.Dialect.Cell(rec.Raw, column))
		c.Line, c.Raw = rec.Line, none
		filled, first = filled || c.Address != 0, first || c.Address == c.Ordinal
		out[i] = c
	}
	out[0].Raw = r.kept(rec.Raw)
	if l.Dialect.HasFormula(rec.Raw) {
		l.Formulas++
	}
	switch {
	case !filled:
		l.Blank++
	case !first:
		l.Duplicates++
	}
	return out
}

var none = []byte{}

// kept copies a record that will be read over.
func (r *rowReader) kept(raw []byte) []byte {
	if len(raw) > len(r.spareBytes) {
		r.spareBytes = make([]byte, max(len(raw), 64<<10))
	}
	n := copy(r.spareBytes, raw)
	out := r.spareBytes[:n:n]
	r.spareBytes = r.spareBytes[n:]
	return out
}

// cell reads an address cell.
func (r *rowReader) cell(text string) *store.Row {
	l := r.list
	r.cells++
	if len(r.spareRows) == 0 {
		r.spareRows = make([]store.Row, aheadRows)
	}
	row := &r.spareRows[0]
	r.spareRows = r.spareRows[1:]
	row.Ordinal, row.Typed = r.cells, strings.ReplaceAll(text, "\x00", "\ufffd")
	identity := strings.TrimSpace(row.Typed)
	if identity == "" {
		return row
	}
	a, err := r.grammar.Parse(row.Typed)
	if err == nil {
		identity = a.Identity(r.sameness(a.Domain))
	}
	if row.Address = r.firstRow(identity, row.Ordinal); row.Address != row.Ordinal {
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
	d := r.domains[a.Domain]
	if d == nil {
		d = &seenDomain{traits: r.catalogue.OwnTraits(a.Domain)}
		r.domains[a.Domain] = d
	}
	traits := r.catalogue.NameTraits(a).With(d.traits...)
	d.Add(row.Ordinal, a.Local, traits)
	for _, t := range traits {
		row.Traits = append(row.Traits, string(t))
	}
	return row
}

// seenDomain is a domain of the list.
type seenDomain struct {
	store.Members
	traits finding.Traits // its own, looked up once
}

// members are each domain's addresses.
func (r *rowReader) members() map[string]*store.Members {
	out := make(map[string]*store.Members, len(r.domains))
	for name, d := range r.domains {
		out[name] = &d.Members
	}
	return out
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
func (r *rowReader) check(noAddress func() error) error {
	switch {
	case r.list.Rows == 0:
		return &sheet.Error{Problem: "The file has a header but no rows. Choose a file with one address a row."}
	case r.list.Addresses == 0:
		return noAddress()
	}
	return nil
}

package intake

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/erase"
	"varnet/core/fault"
	"varnet/core/finding"
	"varnet/core/sheet"
	"varnet/internal/store"
)

// What one step makes for the next is made ahead in so many batches of so many, or of so
// many bytes where things are large.
const (
	aheadBatches = 4
	aheadOf      = 512
	aheadBytes   = 1 << 20
)

// ahead makes things beside what becomes of them; size is how large one is, in bytes. When
// what becomes of them ends early, so does the making with ctx. next gives nil after the last.
func ahead[T any](ctx context.Context, next func() (*T, error), size func(*T) int) func() (*T, error) {
	type batch struct {
		made []*T
		err  error
	}
	batches := make(chan batch, aheadBatches)
	var faults fault.Keeper // it ends the import, and not the service
	go func() {
		defer close(batches)
		defer faults.Keep()
		for more := true; more; {
			b := batch{made: make([]*T, 0, aheadOf)}
			for bytes := 0; len(b.made) < aheadOf && bytes < aheadBytes && more; {
				var one *T
				one, b.err = next()
				if more = one != nil && b.err == nil; more {
					b.made = append(b.made, one)
					bytes += size(one)
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
	return func() (*T, error) {
		for len(now.made) == 0 {
			var ok bool
			if now.err != nil {
				return nil, now.err
			}
			if now, ok = <-batches; !ok {
				faults.Throw()
				return nil, ctx.Err()
			}
		}
		one := now.made[0]
		now.made = now.made[1:]
		return one, nil
	}
}

// record is a row of a file, with the blank lines after it.
type record struct {
	line      int64
	raw, tail []byte
	cells     []addressCell
	formula   bool
	erased    bool // it is blank, because its address was erased
}

func (r *record) size() int { return len(r.raw) + len(r.tail) }

// addressCell is an address cell of a record, and what the grammar makes of it.
type addressCell struct {
	typed string
	address.Address
	err error
}

// recordReader reads the rows of a file.
type recordReader struct {
	file    *sheet.Reader
	dialect sheet.Dialect
	columns []int // that hold addresses
	nth     []int // which address of its cell each takes
	grammar address.Grammar
	gone    *erase.Eraser // of addresses that are not to be kept again; nil: of none
	follow  *record       // the next, read while looking for blank lines
	spare   []byte        // what many records need is taken from one piece of memory
}

func newRecordReader(file io.Reader, l *store.List, g address.Grammar) *recordReader {
	r := &recordReader{file: sheet.NewReader(file, l.Dialect), dialect: l.Dialect, columns: l.AddressColumns, grammar: g}
	for slot := range l.AddressColumns {
		r.nth = append(r.nth, l.Nth(slot))
	}
	return r
}

// header reads all that stands before the first row: a byte order mark, blank
// lines and the header record.
func (r *recordReader) header() ([]byte, error) {
	head := []byte{}
	wanted := r.dialect.Header
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
			r.follow = r.kept(rec)
			return head, nil
		}
	}
}

// next returns the next row; nil after the last.
func (r *recordReader) next() (*record, error) {
	now := r.follow
	if now == nil {
		return nil, nil
	}
	r.follow = nil
	for {
		rec, err := r.file.Next()
		switch {
		case errors.Is(err, io.EOF):
			return now, nil
		case err != nil:
			return nil, err
		case !rec.Blank():
			r.follow = r.kept(rec)
			return now, nil
		}
		now.tail = append(now.tail, rec.Raw...)
	}
}

// kept copies what will be read over.
func (r *recordReader) kept(rec sheet.Record) *record {
	erased := false
	if r.gone != nil {
		rec.Raw, erased = r.gone.Row(r.dialect.Kept(), rec.Raw, r.columns, nil)
	}
	if len(rec.Raw) > len(r.spare) {
		r.spare = make([]byte, max(len(rec.Raw), 64<<10))
	}
	n := copy(r.spare, rec.Raw)
	out := &record{line: rec.Line, raw: r.spare[:n:n], cells: make([]addressCell, len(r.columns)), formula: r.dialect.HasFormula(rec.Raw), erased: erased}
	r.spare = r.spare[n:]
	for i, column := range r.columns {
		out.cells[i] = r.addressCell(strings.ReplaceAll(r.dialect.Cell(rec.Raw, column), "\x00", "\ufffd"), i)
	}
	if bytes.IndexByte(rec.Raw, 0) >= 0 {
		first := &out.cells[0]
		first.Mended = append(slices.Clip(first.Mended), "zero bytes in the row: they are kept in the file")
	}
	return out
}

// addressCell reads the address that a slot takes of a cell. Of a cell with more than
// there are slots for, the last says how many are left.
func (r *recordReader) addressCell(cell string, slot int) (c addressCell) {
	several := address.Several(cell)
	last := slot+1 == len(r.columns) || r.columns[slot+1] != r.columns[slot]
	switch n := r.nth[slot]; {
	case several == nil && n == 0:
		c.typed = cell
	case n < len(several):
		c.typed = several[n]
	}
	c.Address, c.err = r.grammar.Parse(c.typed)
	if n := len(several); n > 0 && c.err == nil {
		c.Mended = append(slices.Clip(c.Mended), fmt.Sprintf("one of %d addresses in the cell", n))
		if left := n - r.nth[slot] - 1; last && left > 0 {
			c.Mended = append(c.Mended, fmt.Sprintf("%d more in the cell are not verified; give each a row of its own", left))
		}
	}
	return c
}

// rowReader makes the rows of a list of those of a file.
type rowReader struct {
	records   func() (*record, error)
	list      *store.List
	catalogue *catalogue.Catalogue
	firsts    *firsts
	domains   map[string]*seenDomain
	// gathered is about how many bytes the addresses of domains take that are not on their way to
	// the database; gatherings are those that are.
	gathered, gatherAtMost int
	gatherings             gatherings
	// sameMailbox is the intake's.
	sameMailbox bool
	left, most  int64        // how many rows there may be, and in all lists of the workspace; most is 0: any number
	queue       []*store.Row // the other cells of the record before
	cells       int32        // read so far
	spareRows   []store.Row
}

func newRowReader(records func() (*record, error), l *store.List, c *catalogue.Catalogue) *rowReader {
	return &rowReader{records: records, list: l, catalogue: c, firsts: newFirsts(), domains: map[string]*seenDomain{},
		gatherAtMost: gatheredAtMost, left: mostRows}
}

// next returns the next address cell, the first of a record with the record; nil after
// the last.
func (r *rowReader) next() (*store.Row, error) {
	if len(r.queue) == 0 {
		if r.gathered > r.gatherAtMost {
			r.gatherings.add(r.members())
		}
		rec, err := r.records()
		if rec == nil || err != nil {
			return nil, err
		}
		if r.queue = r.row(rec); r.list.Rows > min(r.left, mostRows) {
			return nil, r.tooMany()
		}
	}
	cell := r.queue[0]
	r.queue = r.queue[1:]
	return cell, nil
}

func (r *rowReader) tooMany() error {
	if r.left >= mostRows {
		return &TooManyRows{}
	}
	return &TooManyRows{Left: r.left, Most: r.most}
}

// row reads the address cells of a record.
func (r *rowReader) row(rec *record) []*store.Row {
	l := r.list
	l.Rows++
	out := make([]*store.Row, len(rec.cells))
	for i := range rec.cells {
		c := r.cell(&rec.cells[i])
		c.Line = rec.line
		out[i] = c
	}
	out[0].Raw, out[0].Tail = rec.raw, rec.tail
	l.Count(out, 1)
	if rec.formula {
		l.Formulas++
	}
	if rec.erased {
		l.Erased++
	}
	return out
}

// cell reads an address cell.
func (r *rowReader) cell(a *addressCell) *store.Row {
	r.cells++
	if len(r.spareRows) == 0 {
		r.spareRows = make([]store.Row, aheadOf)
	}
	row := &r.spareRows[0]
	r.spareRows = r.spareRows[1:]
	row.Ordinal, row.Typed = r.cells, a.typed
	identity := strings.TrimSpace(row.Typed)
	if identity == "" {
		return row
	}
	if a.err == nil {
		identity = a.Identity(r.sameness(a.Domain))
	}
	if row.Address = r.firsts.first(identity, row.Ordinal); row.Address != row.Ordinal {
		return row
	}
	var wrong *address.Error
	if errors.As(a.err, &wrong) {
		row.Problem = &store.Problem{Cause: string(wrong.Cause), Position: wrong.Position, Reason: wrong.Reason}
		return row
	}
	row.Mended, row.Mailbox, row.Domain = a.Mended, a.Mailbox(), a.Domain
	d := r.domains[a.Domain]
	if d == nil {
		d = &seenDomain{traits: r.catalogue.OwnTraits(a.Domain)}
		r.domains[a.Domain] = d
	}
	traits := r.catalogue.NameTraits(a.Address).With(d.traits...)
	d.Add(row.Ordinal, a.Local, traits)
	d.addresses++
	r.gathered += len(a.Local) + gatheredBytes
	for _, t := range traits {
		row.Traits = append(row.Traits, string(t))
	}
	return row
}

func rowSize(r *store.Row) int { return len(r.Raw) + len(r.Tail) + len(r.Typed) }

// seenDomain is a domain of the list.
type seenDomain struct {
	store.Members                // that were not handed on yet
	addresses     int32          // all of them
	traits        finding.Traits // its own, looked up once
}

// What is gathered of the addresses by domain at most before it is handed on: an address takes so
// many bytes beside its local part.
const (
	gatheredAtMost = 8 << 20
	gatheredBytes  = 8
)

// gatherings are addresses of domains on their way to the database. Who reads does not wait for who
// writes: they are few, since the rows that come with them are.
type gatherings struct {
	mu  sync.Mutex
	all []map[string]*store.Members
}

func (g *gatherings) add(one map[string]*store.Members) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.all = append(g.all, one)
}

// take returns those that were added, in order.
func (g *gatherings) take() []map[string]*store.Members {
	g.mu.Lock()
	defer g.mu.Unlock()
	all := g.all
	g.all = nil
	return all
}

// members are each domain's addresses that were not handed on yet; they are from now on.
func (r *rowReader) members() map[string]*store.Members {
	out := map[string]*store.Members{}
	for name, d := range r.domains {
		if d.Len() > 0 {
			members := d.Members
			out[name], d.Members = &members, store.Members{}
		}
	}
	r.gathered = 0
	return out
}

// sizes are how many addresses each domain has.
func (r *rowReader) sizes(yield func(domain string, addresses int32) bool) {
	for name, d := range r.domains {
		if !yield(name, d.addresses) {
			return
		}
	}
}

func (r *rowReader) sameness(domain string) address.Sameness {
	if r.sameMailbox {
		return r.catalogue.Sameness(domain)
	}
	return address.Sameness{}
}

package store

import (
	"bytes"
	"context"
	"errors"
	"maps"
	"math"
	"slices"
	"strings"

	"varnet/core/address"
	"varnet/core/erase"
	"varnet/core/finding"
	"varnet/internal/store/pack"
)

// ErrInHand tells that an address of a list is being asked about or planned at this moment, so
// that it cannot be erased yet.
var ErrInHand = errors.New("an address to be erased is in hand")

// Erasure is what is to be erased of a list: rows, by their number from 1, and the addresses that
// leave it with them.
type Erasure struct {
	List   List
	eraser erase.Eraser
	rows   map[int32]bool // that hold the address; true: they are the person's, and become blank
	gone   map[int32]firstCell
	shared map[int32]firstCell // of blank rows, addresses that stand in other rows, too
}

// firstCell is the cell in which an address stands first.
type firstCell struct {
	row             int32
	column          int
	typed           string
	mailbox, domain string // of a well-formed address
}

// Rows returns the numbers of the rows that hold the address, in order.
func (x *Erasure) Rows() []int32 { return slices.Sorted(maps.Keys(x.rows)) }

// Own reports whether a row is the person's own: it has the address as its address, not among
// other words.
func (x *Erasure) Own(row int32) bool { return x.rows[row] }

// Without returns a text without the address, and whether it stood in it.
func (x *Erasure) Without(text string) (string, bool) { return x.eraser.Text(text) }

// Addresses returns the ordinals of the addresses that leave the list, in order.
func (x *Erasure) Addresses() []int32 { return slices.Sorted(maps.Keys(x.gone)) }

// Of returns the ordinals of the address itself, each of its spellings one.
func (x *Erasure) Of() (ordinals []int32) {
	for _, o := range x.Addresses() {
		if x.eraser.Is(x.gone[o].mailbox) {
			ordinals = append(ordinals, o)
		}
	}
	return ordinals
}

// Spelled returns the canonical forms of the address in the list.
func (x *Erasure) Spelled() (canonicals []string) {
	for _, o := range x.Of() {
		canonicals = append(canonicals, address.Rebuild(x.gone[o].mailbox).Canonical())
	}
	return canonicals
}

// RowsAt calls do with the first cell of some rows of a list, by their number, in order. It is good
// until do returns.
func (s *Store) RowsAt(ctx context.Context, l List, rows []int32, do func(row int32, c *Row)) error {
	var cells []int32
	for _, row := range rows {
		cells = append(cells, (row-1)*l.slots()+1)
	}
	return s.eachCellAt(ctx, l.ID, cells, true, func(c *Row) error {
		row, _ := l.rowOf(c.Ordinal)
		do(row, c)
		return nil
	})
}

func (l *List) slots() int32 { return int32(len(l.AddressColumns)) }

// rowOf is the number of the row that a cell is in, and which of its address cells it is.
func (l *List) rowOf(ordinal int32) (row int32, slot int) {
	return (ordinal-1)/l.slots() + 1, int((ordinal - 1) % l.slots())
}

// ToErase finds what is to be erased of a list.
func (s *Store) ToErase(ctx context.Context, l List, e erase.Eraser) (*Erasure, error) {
	x := &Erasure{List: l, eraser: e, rows: map[int32]bool{}, gone: map[int32]firstCell{}, shared: map[int32]firstCell{}}
	kept := l.Dialect.Kept()
	err := s.eachCell(ctx, l.ID, 1, math.MaxInt32, true, func(c *Row) error {
		row, slot := l.rowOf(c.Ordinal)
		if slot == 0 {
			if out, whole := e.Row(kept, c.Raw, l.AddressColumns, nil); whole || !bytes.Equal(out, c.Raw) {
				x.rows[row] = whole
			}
		}
		if x.rows[row] && c.First() {
			x.gone[c.Ordinal] = firstCell{row, l.AddressColumns[slot], c.Typed, c.Mailbox, c.Domain}
		}
		return nil
	})
	if err != nil || len(x.gone) == 0 {
		return x, err
	}
	return x, s.eachCell(ctx, l.ID, 1, math.MaxInt32, false, func(c *Row) error {
		row, _ := l.rowOf(c.Ordinal)
		if first, gone := x.gone[c.Address]; gone && !x.rows[row] {
			x.shared[c.Address] = first
			delete(x.gone, c.Address)
		}
		return nil
	})
}

// Erase blanks the rows of a list that hold an address, and takes the address out of its domains,
// runs, results and overrides. It is for a transaction of its own; ErrInHand tells to try again.
// The list is held before it is looked at: another erasure may be at work on the same rows. results
// is how many results are gone.
func (s *Store) Erase(ctx context.Context, list int64, e erase.Eraser) (x *Erasure, results int64, err error) {
	l, err := one[List](ctx, s.db, "SELECT "+listColumns+" FROM list WHERE id = $1 FOR UPDATE", list)
	if err != nil {
		return nil, 0, err
	}
	if x, err = s.ToErase(ctx, l, e); err != nil || len(x.rows) == 0 {
		return x, 0, err
	}
	runs, err := many[Run](ctx, s.db, "SELECT "+runColumns+" FROM run WHERE list_id = $1 ORDER BY id FOR UPDATE", list)
	if err != nil {
		return nil, 0, err
	}
	addresses := x.Addresses()
	for _, r := range runs {
		n, err := s.eraseOfRun(ctx, r, addresses)
		if err != nil {
			return nil, 0, err
		}
		results += n
	}
	return x, results, s.eraseOfList(ctx, x, addresses)
}

// eraseOfList takes the rows and addresses out of the list itself.
func (s *Store) eraseOfList(ctx context.Context, x *Erasure, addresses []int32) error {
	id := x.List.ID
	counts, err := s.eraseRows(ctx, x)
	if err == nil {
		err = s.eraseParts(ctx, x)
	}
	if err == nil {
		_, err = s.db.Exec(ctx, "DELETE FROM by_hand WHERE list_id = $1 AND address = ANY($2)", id, addresses)
	}
	if err == nil {
		_, err = s.db.Exec(ctx, `UPDATE list SET addresses = addresses + $2, malformed = malformed + $3, duplicates = duplicates + $4, blank = blank + $5, mended = mended + $6,
			formulas = formulas + $7, erased = erased + $8, erasures = erasures + 1, header = $9 WHERE id = $1`,
			id, counts.Addresses, counts.Malformed, counts.Duplicates, counts.Blank, counts.Mended, counts.Formulas, x.Blank(), x.header())
	}
	if err == nil {
		_, err = s.db.Exec(ctx, "DELETE FROM estimate WHERE list_id = $1", id)
	}
	return err
}

// Blank returns how many rows become blank.
func (x *Erasure) Blank() (n int) {
	for _, own := range x.rows {
		if own {
			n++
		}
	}
	return n
}

// header is what stands before the first row, without the address. Not to be null, it is never nil.
func (x *Erasure) header() []byte {
	var out []byte
	for line := range strings.SplitAfterSeq(string(x.List.Header), "\n") {
		cells, _ := x.eraser.Row(x.List.Dialect.Kept(), []byte(line), nil, nil)
		out = append(out, cells...)
	}
	return append([]byte{}, out...)
}

// eraseRows writes the blocks anew that hold the rows, and returns what that changes of the counts.
func (s *Store) eraseRows(ctx context.Context, x *Erasure) (changed ListCounts, err error) {
	var cells []int32
	for _, row := range x.Rows() {
		cells = append(cells, (row-1)*x.List.slots()+1, row*x.List.slots())
	}
	var b pack.Block
	var was, is []*Row // the address cells of the row that is read
	err = s.eachBlock(ctx, x.List.ID, true, func(in []Row) error {
		b.Start()
		for i := range in {
			c := x.without(&in[i])
			b.Add(c)
			row, slot := x.List.rowOf(c.Ordinal)
			if slot == 0 {
				was, is = was[:0], is[:0]
			}
			if before := in[i]; x.rows[row] {
				was, is = append(was, &before), append(is, c)
			}
			if len(is) == len(x.List.AddressColumns) {
				changed.Count(was, -1)
				changed.Count(is, 1)
			}
		}
		changed.Formulas += x.formulas(in)
		_, err := s.db.Exec(ctx, "UPDATE row_block SET cells = $3, records = $4, texts = $5, grams = $6, malformed = $7 WHERE list_id = $1 AND last = $2",
			x.List.ID, b.Last, b.Cells, b.Records, string(b.Texts), b.Grams(), b.Malformed)
		return err
	}, "EXISTS (SELECT FROM unnest($2::int[]) o WHERE o BETWEEN first AND last)", cells)
	return changed, err
}

// without is an address cell as it is when its row is erased.
func (x *Erasure) without(c *Row) *Row {
	row, _ := x.List.rowOf(c.Ordinal)
	own, touched := x.rows[row]
	if !touched {
		return c
	}
	out := *c
	if _, shared := x.shared[c.Ordinal]; own && !shared {
		out = Row{Ordinal: c.Ordinal, Line: c.Line, Tail: c.Tail}
	}
	out.Raw = x.record(c.Raw, row)
	return &out
}

// record is the record of a row as it is when it is erased.
func (x *Erasure) record(raw []byte, row int32) []byte {
	out, _ := x.eraser.Row(x.List.Dialect.Kept(), raw, x.List.AddressColumns, func(column int) string {
		var kept []string
		for _, ordinal := range slices.Sorted(maps.Keys(x.shared)) {
			if c := x.shared[ordinal]; c.row == row && c.column == column {
				kept = append(kept, c.typed)
			}
		}
		return strings.Join(kept, "; ")
	})
	return out
}

// formulas is by how many the rows with formulas among some become more.
func (x *Erasure) formulas(in []Row) (more int64) {
	d := x.List.Dialect.Kept()
	for i := range in {
		row, slot := x.List.rowOf(in[i].Ordinal)
		if _, touched := x.rows[row]; !touched || slot > 0 || !d.HasFormula(in[i].Raw) {
			continue
		}
		if !d.HasFormula(x.record(in[i].Raw, row)) {
			more--
		}
	}
	return more
}

// eraseParts takes addresses out of the domains of a list.
func (s *Store) eraseParts(ctx context.Context, x *Erasure) error {
	domains := map[string]bool{}
	for _, c := range x.gone {
		if c.domain != "" {
			domains[c.domain] = true
		}
	}
	names := slices.Sorted(maps.Keys(domains))
	var parts [][]any
	err := s.eachPart(ctx, x.List.ID, partsOf{domains: names, lines: true}, func(domain string, ordinals []int32, lines string) bool {
		var left part
		for _, o := range ordinals {
			var local string
			var traits []finding.Trait
			local, traits, lines = cutLine(lines)
			if _, gone := x.gone[o]; !gone {
				left.ordinals, left.lines = append(left.ordinals, o), appendLine(left.lines, local, traits)
			}
		}
		if len(left.ordinals) > 0 {
			parts = append(parts, []any{x.List.ID, domain, left.ordinals[len(left.ordinals)-1], left.ordinals, string(left.lines)})
		}
		return true
	})
	if err != nil {
		return err
	}
	if _, err := s.db.Exec(ctx, "DELETE FROM list_part WHERE list_id = $1 AND domain = ANY($2)", x.List.ID, names); err != nil {
		return err
	}
	if err := s.copyParts(ctx, parts); err != nil {
		return err
	}
	_, err = s.db.Exec(ctx, `WITH left_over AS (SELECT d.domain, (SELECT coalesce(sum(cardinality(ordinals)), 0) FROM list_part p WHERE p.list_id = $1 AND p.domain = d.domain)::int AS n
			FROM unnest($2::text[]) AS d (domain)),
		empty AS (DELETE FROM list_domain l USING left_over WHERE l.list_id = $1 AND l.domain = left_over.domain AND n = 0),
		emptied AS (DELETE FROM run_domain r USING left_over WHERE r.run_id IN (SELECT id FROM run WHERE list_id = $1) AND r.domain = left_over.domain AND n = 0)
		UPDATE list_domain l SET addresses = n FROM left_over WHERE l.list_id = $1 AND l.domain = left_over.domain AND n > 0`, x.List.ID, names)
	return err
}

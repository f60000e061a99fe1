package store

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
)

// Rows are kept in blocks: one record for some hundred address cells that follow
// each other. A row by itself would cost more in the heads of its record, in its
// entry in an index and in the reading of its columns than in what stands in it.

// Row is one address cell of a list as it is brought in: where the list has one
// address column, one row of it. The record's bytes stand with its first cell.
type Row struct {
	Ordinal int32
	Line    int64
	Raw     []byte
	Tail    []byte // blank lines after it
	Typed   string
	// Address is the ordinal of the first row with the same address, 0 where
	// the cell is empty. The fields below are set on that first row only.
	Address int32
	Mailbox string
	Domain  string // of a well-formed address
	Traits  []string
	Mended  []string
	Problem *Problem
}

// First tells the first row with its address.
func (r *Row) First() bool { return r.Address == r.Ordinal }

// Problem is why a cell holds no address.
type Problem struct {
	Cause    string `json:"cause"`
	Position int    `json:"position,omitempty"`
	Reason   string `json:"reason"`
}

// A block ends with so many cells, or at so many bytes of records.
const (
	blockCells = 500
	blockBytes = 1 << 20
)

// block is a block as it is kept. A cell in it is a byte of flags, the distance of
// its line from the one before, the lengths of its record and of what follows it,
// and what the flags tell. Numbers are varints (encoding/binary).
type block struct {
	first, last    int32
	cells, records []byte
	// texts are the cells that stand first with their address, in lower case, one a
	// line; of the others the line is empty.
	texts     []byte
	malformed int32
	line      int64 // of the last cell
}

// What a cell has beside its line, its record and its text.
const (
	hasTail = 1 << iota
	standsFirst
	standsLater // after the first with its address, whose distance follows
	isWellFormed
	hasMailbox // the text is not the mailbox, which follows
	hasTraits
	hasMended
	hasProblem
)

// full tells that nothing more is to be added.
func (b *block) full() bool { return b.last-b.first+1 >= blockCells || len(b.records) >= blockBytes }

func (b *block) empty() bool { return b.first == 0 }

// start empties the block for the next.
func (b *block) start() {
	*b = block{cells: b.cells[:0], records: b.records[:0], texts: b.texts[:0]}
	if b.records == nil {
		b.records = []byte{} // no null, though all records be empty
	}
}

// add adds the next cell.
func (b *block) add(r *Row) {
	if b.empty() {
		b.first = r.Ordinal
	} else {
		b.texts = append(b.texts, '\n')
	}
	b.last = r.Ordinal
	flags := flagsOf(r)
	b.cells = binary.AppendVarint(append(b.cells, flags), r.Line-b.line)
	b.line = r.Line
	b.records = append(append(b.records, r.Raw...), r.Tail...)
	b.cells = binary.AppendUvarint(b.cells, uint64(len(r.Raw)))
	if flags&hasTail != 0 {
		b.cells = binary.AppendUvarint(b.cells, uint64(len(r.Tail)))
	}
	b.cells = appendText(b.cells, r.Typed)
	if flags&standsLater != 0 {
		b.cells = binary.AppendUvarint(b.cells, uint64(r.Ordinal-r.Address))
	}
	if flags&standsFirst == 0 {
		return
	}
	b.texts = append(b.texts, searched(r.Typed)...)
	if flags&hasMailbox != 0 {
		b.cells = appendText(b.cells, r.Mailbox)
	}
	if flags&hasTraits != 0 {
		b.cells = appendText(b.cells, strings.Join(r.Traits, " "))
	}
	if flags&hasMended != 0 {
		b.cells = binary.AppendUvarint(b.cells, uint64(len(r.Mended)))
		for _, m := range r.Mended {
			b.cells = appendText(b.cells, m)
		}
	}
	if flags&hasProblem != 0 {
		b.malformed++
		b.cells = binary.AppendUvarint(appendText(b.cells, r.Problem.Cause), uint64(r.Problem.Position))
		b.cells = appendText(b.cells, r.Problem.Reason)
	}
}

func flagsOf(r *Row) (flags byte) {
	set := func(flag byte, has bool) {
		if has {
			flags |= flag
		}
	}
	set(hasTail, len(r.Tail) > 0)
	set(standsFirst, r.First())
	set(standsLater, r.Address != 0 && !r.First())
	set(isWellFormed, r.Domain != "")
	set(hasMailbox, r.Mailbox != "" && r.Mailbox != r.Typed)
	set(hasTraits, len(r.Traits) > 0)
	set(hasMended, len(r.Mended) > 0)
	set(hasProblem, r.Problem != nil)
	return flags
}

func appendText(to []byte, text string) []byte {
	return append(binary.AppendUvarint(to, uint64(len(text))), text...)
}

// searched is a text as it is looked for: in lower case, on one line.
func searched(text string) string { return strings.ReplaceAll(strings.ToLower(text), "\n", " ") }

var errBlock = errors.New("a block of rows is damaged")

// unpack gives the cells of a block, in the memory of into; where the records were
// not read, without theirs.
func (b *block) unpack(into []Row) ([]Row, error) {
	r, records, line := newUnpacker(b.cells), b.records, int64(0)
	into = into[:0]
	for ordinal := b.first; ordinal <= b.last && !r.broken; ordinal++ {
		var c Row
		var lengths [2]int
		flags := r.octet()
		line += r.distance()
		lengths[0] = int(r.number())
		if flags&hasTail != 0 {
			lengths[1] = int(r.number())
		}
		c.Ordinal, c.Line = ordinal, line
		r.cell(&c, flags)
		if b.records != nil {
			if lengths[0] < 0 || lengths[1] < 0 || lengths[0] > len(records) || lengths[1] > len(records)-lengths[0] {
				return nil, errBlock
			}
			c.Raw, c.Tail, records = records[:lengths[0]], records[lengths[0]:lengths[0]+lengths[1]], records[lengths[0]+lengths[1]:]
		}
		into = append(into, c)
	}
	if r.broken || len(r.rest) > 0 || len(records) > 0 {
		return nil, errBlock
	}
	return into, nil
}

// cell reads what a cell has beside its line and its record.
func (r *unpacker) cell(c *Row, flags byte) {
	c.Typed = r.text()
	if flags&standsLater != 0 {
		c.Address = c.Ordinal - int32(r.number())
		r.broken = r.broken || c.Address <= 0 || c.Address >= c.Ordinal
	}
	if flags&standsFirst == 0 {
		return
	}
	c.Address = c.Ordinal
	if flags&isWellFormed != 0 {
		c.Mailbox = c.Typed
	}
	if flags&hasMailbox != 0 {
		c.Mailbox = r.text()
	}
	if flags&isWellFormed != 0 {
		c.Domain = c.Mailbox[strings.LastIndexByte(c.Mailbox, '@')+1:]
	}
	if flags&hasTraits != 0 {
		c.Traits = strings.Split(r.text(), " ")
	}
	if flags&hasMended != 0 {
		c.Mended = make([]string, r.count())
		for i := range c.Mended {
			c.Mended[i] = r.text()
		}
	}
	if flags&hasProblem != 0 {
		c.Problem = &Problem{Cause: r.text(), Position: int(r.number()), Reason: r.text()}
	}
}

// CopyRows brings in rows as next gives them, until it gives none. Their ordinals
// are to follow each other from 1.
func (s *Store) CopyRows(ctx context.Context, list int64, next func() (*Row, error)) error {
	var failed error // what next said, before PostgreSQL wraps it
	var b block
	ended := false
	_, err := s.db.CopyFrom(ctx, pgx.Identifier{"row_block"}, blockColumns, pgx.CopyFromFunc(func() ([]any, error) {
		b.start()
		for !ended && !b.full() {
			r, err := next()
			if err != nil {
				failed = err
				return nil, err
			}
			if ended = r == nil; !ended {
				b.add(r)
			}
		}
		if b.empty() {
			return nil, nil
		}
		return b.values(list), nil
	}))
	return cmp.Or(failed, err)
}

var blockColumns = []string{"list_id", "first", "last", "cells", "records", "texts", "malformed"}

func (b *block) values(list int64) []any {
	return []any{list, b.first, b.last, b.cells, b.records, string(b.texts), b.malformed}
}

// eachBlock gives the cells of those blocks of a list that a condition in SQL
// chooses, in order; without records, where they are not wanted. They are good until
// do returns; an error of it ends the walk.
func (s *Store) eachBlock(ctx context.Context, list int64, records bool, do func([]Row) error, where string, args ...any) error {
	of := "NULL::bytea"
	if records {
		of = "records"
	}
	rows, err := s.db.Query(ctx, "SELECT first, last, cells, "+of+" FROM row_block WHERE list_id = $1 AND "+where+" ORDER BY last", append([]any{list}, args...)...)
	if err != nil {
		return err
	}
	var b block
	var in []Row
	_, err = pgx.ForEachRow(rows, []any{&b.first, &b.last, (*pgtype.DriverBytes)(&b.cells), (*pgtype.DriverBytes)(&b.records)}, func() error {
		if in, err = b.unpack(in); err != nil {
			return fmt.Errorf("list %d, rows %d to %d: %w", list, b.first, b.last, err)
		}
		return do(in)
	})
	return err
}

// eachCell gives the cells of a list from one ordinal to another, one by one.
func (s *Store) eachCell(ctx context.Context, list int64, from, to int32, records bool, do func(*Row) error) error {
	return s.eachBlock(ctx, list, records, func(in []Row) error {
		for i := range in {
			if c := &in[i]; c.Ordinal >= from && c.Ordinal <= to {
				if err := do(c); err != nil {
					return err
				}
			}
		}
		return nil
	}, "last >= $2 AND first <= $3", from, to)
}

// eachCellAt gives the cells at some ordinals of a list, in their order, one by one.
func (s *Store) eachCellAt(ctx context.Context, list int64, ordinals []int32, records bool, do func(*Row) error) error {
	wanted := slices.Compact(slices.Sorted(slices.Values(ordinals)))
	if len(wanted) == 0 {
		return nil
	}
	return s.eachBlock(ctx, list, records, func(in []Row) error {
		for len(wanted) > 0 && wanted[0] <= in[len(in)-1].Ordinal {
			if at := wanted[0] - in[0].Ordinal; at >= 0 {
				if err := do(&in[at]); err != nil {
					return err
				}
			}
			wanted = wanted[1:]
		}
		return nil
	}, `last = ANY(ARRAY(SELECT DISTINCT (SELECT b.last FROM row_block b WHERE b.list_id = $1 AND b.last >= o ORDER BY b.last LIMIT 1)
		FROM unnest($2::int[]) o))`, wanted)
}

// cellsAt gives the cells at some ordinals of a list, by ordinal.
func (s *Store) cellsAt(ctx context.Context, list int64, ordinals []int32, records bool) (map[int32]Row, error) {
	out := make(map[int32]Row, len(ordinals))
	err := s.eachCellAt(ctx, list, ordinals, records, func(r *Row) error {
		kept := *r
		kept.Raw, kept.Tail = slices.Clone(r.Raw), slices.Clone(r.Tail)
		out[r.Ordinal] = kept
		return nil
	})
	return out, err
}

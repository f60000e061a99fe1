package pack

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
)

// Row is one address cell of a list: where the list has one address column, one row of
// it. The bytes of the record come with its first cell.
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

// First reports whether it is the first row with its address.
func (r *Row) First() bool { return r.Address == r.Ordinal }

// Problem is why a cell holds no address.
type Problem struct {
	Cause    string
	Position int // of the character at fault, from 1; 0: of none
	Reason   string
}

// A block ends with so many cells, or at so many bytes of records.
const (
	blockCells = 500
	blockBytes = 1 << 20
)

// Block is some hundred address cells that follow each other, kept as one record: a row
// by itself would cost more in the head of its record, in its entry in an index and in
// the reading of its columns than in what it holds.
//
// Cells begins with its version. A cell in it is a byte of flags, the distance of its
// line from the one before, the lengths of its record and of what follows it, and what
// the flags announce.
type Block struct {
	First, Last    int32  // ordinals
	Cells, Records []byte // Records may be left unread
	// Texts are the cells that come first with their address, as Searched writes them,
	// one a line; the line of any other is empty.
	Texts     []byte
	Malformed int32
	line      int64  // of the last cell
	grams     []byte // see Grams
}

const blockVersion = 1

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

// Full reports whether no more cells are to be added.
func (b *Block) Full() bool { return b.Last-b.First+1 >= blockCells || len(b.Records) >= blockBytes }

// Empty reports whether it has no cell yet.
func (b *Block) Empty() bool { return b.First == 0 }

// Start empties the block for the next, whose memory is the same.
func (b *Block) Start() {
	clear(b.grams)
	*b = Block{Cells: append(b.Cells[:0], blockVersion), Records: b.Records[:0], Texts: b.Texts[:0], grams: b.grams}
	if b.Records == nil {
		b.Records = []byte{} // no null, though all records be empty
	}
}

// Add adds the next cell.
func (b *Block) Add(r *Row) {
	if b.Empty() {
		b.First = r.Ordinal
	} else {
		b.Texts = append(b.Texts, '\n')
	}
	b.Last = r.Ordinal
	flags := flagsOf(r)
	b.Cells = binary.AppendVarint(append(b.Cells, flags), r.Line-b.line)
	b.line = r.Line
	b.Records = append(append(b.Records, r.Raw...), r.Tail...)
	b.Cells = binary.AppendUvarint(b.Cells, uint64(len(r.Raw)))
	if flags&hasTail != 0 {
		b.Cells = binary.AppendUvarint(b.Cells, uint64(len(r.Tail)))
	}
	b.Cells = appendText(b.Cells, r.Typed)
	if flags&standsLater != 0 {
		b.Cells = binary.AppendUvarint(b.Cells, uint64(r.Ordinal-r.Address))
	}
	if flags&standsFirst == 0 {
		return
	}
	text := Searched(r.Typed)
	b.Texts = append(b.Texts, text...)
	b.addGrams(text)
	if flags&hasMailbox != 0 {
		b.Cells = appendText(b.Cells, r.Mailbox)
	}
	if flags&hasTraits != 0 {
		b.Cells = appendText(b.Cells, strings.Join(r.Traits, " "))
	}
	if flags&hasMended != 0 {
		b.Cells = binary.AppendUvarint(b.Cells, uint64(len(r.Mended)))
		for _, m := range r.Mended {
			b.Cells = appendText(b.Cells, m)
		}
	}
	if flags&hasProblem != 0 {
		b.Malformed++
		b.Cells = binary.AppendUvarint(appendText(b.Cells, r.Problem.Cause), uint64(r.Problem.Position))
		b.Cells = appendText(b.Cells, r.Problem.Reason)
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

// Searched returns a text as it is looked for: in lower case, on one line.
func Searched(text string) string { return strings.ReplaceAll(strings.ToLower(text), "\n", " ") }

var errBlock = errors.New("a block of rows is damaged")

// Rows returns the cells of a block, in the memory of into; where the records were not
// read, without theirs. A damaged block, and one of a version that this release does not
// know, is an error.
func (b *Block) Rows(into []Row) ([]Row, error) {
	r, err := newReader(b.Cells, blockVersion)
	if err != nil {
		return nil, fmt.Errorf("a block of rows: %w", err)
	}
	records, line := b.Records, int64(0)
	into = into[:0]
	for ordinal := b.First; ordinal <= b.Last && !r.broken; ordinal++ {
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
		if b.Records != nil {
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
func (r *reader) cell(c *Row, flags byte) {
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

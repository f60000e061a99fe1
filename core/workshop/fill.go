package workshop

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"iter"
	"os"
)

// filling is what the rows hold that another one stands for, for that one's empty cells.
type filling struct {
	losers losers
	cells  *os.File
	order  *sorter // the row that stands (key[0]), the one it stands for (key[1]), where its cells lie (rank) in how many bytes (when)
}

// fill writes down the cells of the rows that another one stands for.
func fill(s *Spill, tables []Table, j Joined, l losers) (*filling, error) {
	file, err := s.file()
	if err != nil {
		return nil, err
	}
	f := &filling{losers: l, cells: file, order: s.sorter()}
	next, stop := iter.Pull2(l.pairs.sorted())
	defer stop()
	pair, err, more := next()
	out, at := bufio.NewWriterSize(file, 1<<18), uint64(0)
	for n, t := range tables {
		eachErr := t.each(func(row int64, r Row) error {
			if err != nil || !more || pair.key[0] != rankOf(n, row) {
				return err
			}
			b := packCells(j.row(n, r).cells)
			if err := f.order.add(record{key: key{pair.key[1], pair.key[0]}, rank: at, when: int64(len(b))}); err != nil {
				return err
			}
			at += uint64(len(b))
			pair, err, more = next()
			_, writeErr := out.Write(b)
			return writeErr
		})
		if eachErr != nil {
			return nil, eachErr
		}
	}
	return f, out.Flush()
}

// pass is one reading of the rows that stand, in their order, with their empty cells filled.
func (f *filling) pass() pass {
	next, stop := iter.Pull2(f.order.sorted())
	one, err, more := next()
	var b []byte
	return pass{fits: f.losers.stands, end: stop, change: func(rank uint64, r Row) (Row, error) {
		if err != nil || !more || one.key[0] != rank {
			return r, err
		}
		cells := r.own()
		for ; err == nil && more && one.key[0] == rank; one, err, more = next() {
			b = append(b[:0], make([]byte, one.when)...)
			if _, err := f.cells.ReadAt(b, int64(one.rank)); err != nil {
				return r, fmt.Errorf("reading back what a merge had written down: %w", err)
			}
			cells = fillFrom(cells, b)
		}
		return Row{Known: r.Known, cells: cells, owned: true}, err
	}}
}

// packCells writes cells with their lengths.
func packCells(cells []string) (b []byte) {
	for _, c := range cells {
		b = binary.AppendUvarint(b, uint64(len(c)))
		b = append(b, c...)
	}
	return b
}

// fillFrom fills empty cells from packed ones.
func fillFrom(cells []string, packed []byte) []string {
	for i := 0; len(packed) > 0; i++ {
		size, n := binary.Uvarint(packed)
		cell := packed[n : n+int(size)]
		if packed = packed[n+int(size):]; len(bytes.TrimSpace(cell)) == 0 {
			continue
		}
		for len(cells) <= i {
			cells = append(cells, "")
		}
		if empty(cells[i]) {
			cells[i] = string(cell)
		}
	}
	return cells
}

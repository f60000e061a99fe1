package workshop

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"iter"
	"os"
)

// filling is what the rows that another one stands for hold, for that one's empty cells.
type filling struct {
	losers losers
	cells  *os.File
	order  *sorter // the row that stands (key[0]), the one it stands for (key[1]), where its cells lie (rank)
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
			if err := f.order.add(record{key: key{pair.key[1], pair.key[0]}, rank: at}); err != nil {
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
	return pass{fits: f.losers.stands, end: stop, change: func(rank uint64, cells []string) error {
		for ; err == nil && more && one.key[0] == rank; one, err, more = next() {
			others, err := unpackCells(io.NewSectionReader(f.cells, int64(one.rank), 1<<62), len(cells))
			if err != nil {
				return err
			}
			for i, c := range others {
				if empty(cells[i]) && !empty(c) {
					cells[i] = c
				}
			}
		}
		return err
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

// packedRead is how much is read at once of what most often is less than a kilobyte.
const packedRead = 1 << 10

func unpackCells(r io.Reader, n int) ([]string, error) {
	in, cells := bufio.NewReaderSize(r, packedRead), make([]string, n)
	for i := range cells {
		size, err := binary.ReadUvarint(in)
		if err != nil {
			return nil, fmt.Errorf("reading back what a merge had written down: %w", err)
		}
		b := make([]byte, size)
		if _, err := io.ReadFull(in, b); err != nil {
			return nil, fmt.Errorf("reading back what a merge had written down: %w", err)
		}
		cells[i] = string(b)
	}
	return cells, nil
}

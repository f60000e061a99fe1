package workshop

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"errors"
	"io"
	"iter"
	"os"
	"slices"
)

// Spill holds what does not fit in memory, in files of a folder, until it is closed.
type Spill struct {
	dir   string
	most  int // records of a sorter that are held in memory
	files []*os.File
}

// mostRecords is how many records are held in memory: 16 MB.
const mostRecords = 1 << 19

// NewSpill returns one that makes its files in a folder; "": where the system has its own.
func NewSpill(dir string) *Spill { return &Spill{dir: dir, most: mostRecords} }

// file is a new file, which has no name, so that it is gone with the process.
func (s *Spill) file() (*os.File, error) {
	f, err := os.CreateTemp(s.dir, "varnet-workshop-")
	if err != nil {
		return nil, err
	}
	s.files = append(s.files, f)
	return f, os.Remove(f.Name())
}

// Close gives the room back. Tables that were made with it cannot be read any more.
func (s *Spill) Close() error {
	var errs []error
	for _, f := range s.files {
		errs = append(errs, f.Close())
	}
	s.files = nil
	return errors.Join(errs...)
}

// record is a key of a row: what sorters sort, by key and then by rank.
type record struct {
	key  key
	rank uint64
	when int64 // seconds, where rows are told by their date
}

const recordBytes = 32

func (r record) compare(o record) int {
	if c := cmp.Compare(r.key[0], o.key[0]); c != 0 {
		return c
	}
	if c := cmp.Compare(r.key[1], o.key[1]); c != 0 {
		return c
	}
	return cmp.Compare(r.rank, o.rank)
}

// sorter sorts any number of records.
type sorter struct {
	spill *Spill
	buf   []record
	runs  []*os.File // sorted, each
}

func (s *Spill) sorter() *sorter { return &sorter{spill: s} }

func (x *sorter) add(r record) error {
	if len(x.buf) == x.spill.most {
		if err := x.run(); err != nil {
			return err
		}
	}
	x.buf = append(x.buf, r)
	return nil
}

// run writes what is in memory as a sorted run.
func (x *sorter) run() error {
	slices.SortFunc(x.buf, record.compare)
	f, err := x.spill.file()
	if err != nil {
		return err
	}
	out, b := bufio.NewWriterSize(f, 1<<18), make([]byte, 0, recordBytes)
	for _, r := range x.buf {
		b = binary.LittleEndian.AppendUint64(b[:0], r.key[0])
		b = binary.LittleEndian.AppendUint64(b, r.key[1])
		b = binary.LittleEndian.AppendUint64(b, r.rank)
		b = binary.LittleEndian.AppendUint64(b, uint64(r.when))
		if _, err := out.Write(b); err != nil {
			return err
		}
	}
	x.runs, x.buf = append(x.runs, f), x.buf[:0]
	return out.Flush()
}

// sorted returns the records in their order, and forgets those in memory as it goes.
func (x *sorter) sorted() iter.Seq2[record, error] {
	slices.SortFunc(x.buf, record.compare)
	return func(yield func(record, error) bool) {
		sources := []*source{{memory: x.buf}}
		for _, f := range x.runs {
			if _, err := f.Seek(0, io.SeekStart); err != nil {
				yield(record{}, err)
				return
			}
			sources = append(sources, &source{file: bufio.NewReaderSize(f, 1<<18)})
		}
		for _, s := range sources {
			s.advance()
		}
		for {
			least := (*source)(nil)
			for _, s := range sources { // there are few: one for each 16 MB
				if s.err != nil && !errors.Is(s.err, io.EOF) {
					yield(record{}, s.err)
					return
				}
				if s.err == nil && (least == nil || s.next.compare(least.next) < 0) {
					least = s
				}
			}
			if least == nil || !yield(least.next, nil) {
				return
			}
			least.advance()
		}
	}
}

// source is a run that is being read.
type source struct {
	memory []record
	file   *bufio.Reader
	next   record
	err    error // io.EOF after the last
}

func (s *source) advance() {
	if s.file == nil {
		if len(s.memory) == 0 {
			s.err = io.EOF
			return
		}
		s.next, s.memory = s.memory[0], s.memory[1:]
		return
	}
	var b [recordBytes]byte
	if _, s.err = io.ReadFull(s.file, b[:]); s.err != nil {
		return
	}
	s.next.key[0] = binary.LittleEndian.Uint64(b[:])
	s.next.key[1] = binary.LittleEndian.Uint64(b[8:])
	s.next.rank = binary.LittleEndian.Uint64(b[16:])
	s.next.when = int64(binary.LittleEndian.Uint64(b[24:]))
}

// bits are a mark for each row of a table, from 1.
type bits []uint64

func (b *bits) set(at int64) {
	for int64(len(*b))*64 <= at {
		*b = append(*b, 0)
	}
	(*b)[at/64] |= 1 << (at % 64)
}

func (b bits) has(at int64) bool {
	return at/64 < int64(len(b)) && b[at/64]&(1<<(at%64)) != 0
}

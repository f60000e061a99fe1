// Package sheet reads and writes tabular files. It never changes what it was
// given: a record keeps its bytes as they stand in the file, so that what
// comes out is what went in, whatever its quoting, encoding and line ends.
// Guess says from the beginning of a file how it is written, NewReader reads its records;
// the package example shows both.
package sheet

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
)

// Limits of one record. They keep a damaged file (a quote that is never
// closed, a file that is not text) from being read as one endless record.
const (
	MaxRecord  = 1 << 20 // bytes
	MaxColumns = 10_000
)

// Error is something wrong in a file; its text names the line and the remedy.
type Error struct {
	Line    int64
	Problem string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Problem
	}
	return fmt.Sprintf("line %d: %s", e.Line, e.Problem)
}

// Record is one record of a file.
type Record struct {
	// Raw is the record as it stands in the file, its line end included. It
	// is good until the next call of Next.
	Raw []byte
	// Line is the number of the line on which the record begins, from 1.
	Line int64
}

// Blank tells a record that holds nothing but its line end.
func (r Record) Blank() bool { return len(trimEnd(r.Raw)) == 0 }

// Reader reads records one by one.
type Reader struct {
	in      *bufio.Reader
	dialect Dialect
	buf     []byte
	line    int64
	rest    []byte // read, and belonging to the next record; restErr is how the reading ended
	restErr error
}

// NewReader reads records of the dialect from in. A byte order mark belongs to
// the first record's Raw.
func NewReader(in io.Reader, d Dialect) *Reader {
	return &Reader{in: bufio.NewReaderSize(d.reader(in), 1<<16), dialect: d, line: 1}
}

// Next returns the next record, io.EOF after the last, or an *Error. A record
// may run over several lines where a quoted cell holds line ends.
func (r *Reader) Next() (Record, error) {
	r.buf = r.buf[:0]
	start := r.line
	quotes := quoteState{quote: r.dialect.quote(), delimiter: r.dialect.delimiter()}
	for {
		part, err := r.part(&quotes)
		r.buf = append(r.buf, part...)
		if len(r.buf) > MaxRecord {
			return Record{}, &Error{start, fmt.Sprintf("a record longer than %d bytes begins here; is a quote not closed, or is this no text file?", MaxRecord)}
		}
		switch {
		case errors.Is(err, errHalfLetter):
			return Record{}, &Error{r.line, "half a letter of UTF-16 stands here, so the file is damaged; save the list again as UTF-8, and import that."}
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case err != nil && !errors.Is(err, io.EOF):
			return Record{}, fmt.Errorf("reading line %d: %w", r.line, err)
		case err != nil && len(r.buf) == 0:
			return Record{}, io.EOF
		}
		if err == nil {
			r.line++
			if quotes.open {
				continue
			}
		}
		return Record{Raw: r.buf, Line: start}, nil
	}
}

// part reads up to the next line end. A carriage return by itself is one, too, outside
// quotes: files that were put together on several systems mix them.
func (r *Reader) part(quotes *quoteState) (part []byte, err error) {
	if part, err = r.rest, r.restErr; len(part) == 0 {
		part, err = r.in.ReadSlice('\n')
	}
	r.rest = nil
	for at := 0; ; {
		n := bytes.IndexByte(part[at:], '\r')
		end := at + n + 1
		if n >= 0 && end == len(part) && errors.Is(err, bufio.ErrBufferFull) {
			part = bytes.Clone(part) // looking further reads over it
		}
		switch {
		case n < 0, r.feedAt(part, end, err):
			quotes.scan(part[at:])
			return part, err
		}
		if quotes.scan(part[at:end]); quotes.open {
			at = end
			continue
		}
		quotes.inCell = false
		r.rest, r.restErr = part[end:], err
		return part[:end], nil
	}
}

// feedAt reports whether a line feed stands at a place of what was read, or comes next.
func (r *Reader) feedAt(part []byte, at int, err error) bool {
	if at < len(part) {
		return part[at] == '\n'
	}
	next, _ := r.in.Peek(1)
	return errors.Is(err, bufio.ErrBufferFull) && len(next) > 0 && next[0] == '\n'
}

// quoteState follows whether a quoted cell is open at the end of what was
// scanned. A quote opens a cell only as its first character; anywhere else it
// is a character like others, as in: 5" pots.
type quoteState struct {
	quote, delimiter byte
	open             bool
	inCell           bool // past the first character of a cell
	last             byte
}

func (q *quoteState) scan(b []byte) {
	if q.quote == 0 {
		return
	}
	for _, c := range b {
		switch {
		case q.open:
			if c == q.quote {
				q.open = false // a doubled quote opens it again at once
			}
		case c == q.quote && (!q.inCell || q.last == q.quote):
			q.open, q.inCell = true, true
		case c == q.delimiter, c == '\n':
			q.inCell = false
		default:
			q.inCell = true
		}
		q.last = c
	}
}

// trimEnd takes the line end off a record.
func trimEnd(b []byte) []byte {
	if n := len(b); n > 0 && b[n-1] == '\n' {
		b = b[:n-1]
	}
	if n := len(b); n > 0 && b[n-1] == '\r' {
		b = b[:n-1]
	}
	return b
}

package sheet

import (
	"bytes"
	"cmp"
	"slices"
	"strings"

	"golang.org/x/text/encoding"
)

// Insert returns a record with more cells right after the cell numbered after,
// from 0. All other bytes stay as they are. A record that ends before that cell
// is filled up, so that the new cells stand in their columns.
func (d Dialect) Insert(raw []byte, after int, cells []string) []byte {
	body := trimEnd(raw)
	mark := Mark(body)
	rest := body[len(mark):]
	delimiter := d.Delimiter
	if delimiter == "" {
		delimiter = "," // one cell a line becomes a table
	}
	out := slices.Clone(mark)
	for n := 0; ; n++ {
		cell, next, more := d.cut(rest)
		out = append(out, cell...)
		rest = next
		if n == after || !more {
			for ; n < after; n++ {
				out = append(out, delimiter...)
			}
			for _, c := range cells {
				out = d.write(append(out, delimiter...), c, delimiter)
			}
			if more {
				out = append(append(out, delimiter...), rest...)
			}
			return append(out, raw[len(body):]...)
		}
		out = append(out, delimiter...)
	}
}

// Replace returns a record with other texts in those of its cells, numbered from 0, that text
// returns one for. All other bytes stay as they are.
func (d Dialect) Replace(raw []byte, text func(n int) (string, bool)) []byte {
	body, delimiter := trimEnd(raw), cmp.Or(d.Delimiter, "\n")
	mark := Mark(body)
	rest, out := body[len(mark):], slices.Clone(mark)
	for n, more := 0, true; more; n++ {
		var cell []byte
		cell, rest, more = d.cut(rest)
		if other, ok := text(n); ok {
			out = d.write(out, other, delimiter)
		} else {
			out = append(out, cell...)
		}
		if more {
			out = append(out, d.Delimiter...)
		}
	}
	return append(out, raw[len(body):]...)
}

// Record writes cells as a record of the dialect, without a line end.
func (d Dialect) Record(cells []string) (out []byte) {
	size := 0
	for _, c := range cells {
		size += len(c) + len("\"\",")
	}
	out = make([]byte, 0, size)
	for i, c := range cells {
		if i > 0 {
			out = append(out, d.Delimiter...)
		}
		out = d.write(out, c, d.Delimiter)
	}
	return out
}

// LineEnd is what a record ends with: CR LF, LF, or nothing.
func LineEnd(raw []byte) []byte { return raw[len(trimEnd(raw)):] }

// write appends a text as a cell of the dialect.
func (d Dialect) write(out []byte, cell, delimiter string) []byte {
	if quote := d.Quote; quote == "" {
		cell = strings.NewReplacer(delimiter, " ", "\r", " ", "\n", " ").Replace(cell)
	} else if wrapped(cell, delimiter, quote) {
		cell = quote + strings.ReplaceAll(cell, quote, quote+quote) + quote
	}
	if d.Encoding == UTF8 {
		return append(out, cell...)
	}
	if e, ok := singleByte[d.Encoding]; ok {
		if b, err := encoding.ReplaceUnsupported(e.NewEncoder()).Bytes([]byte(cell)); err == nil {
			return append(out, bytes.ReplaceAll(b, []byte{0x1a}, []byte("?"))...)
		}
	}
	return append(out, cell...)
}

// wrapped reports whether a cell must be wrapped in quotes.
func wrapped(cell, delimiter, quote string) bool {
	return delimiter == "" || strings.IndexByte(cell, delimiter[0]) >= 0 || strings.IndexByte(cell, quote[0]) >= 0 || strings.IndexByte(cell, '\r') >= 0 || strings.IndexByte(cell, '\n') >= 0
}

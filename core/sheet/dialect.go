package sheet

import (
	"bytes"
	"unicode/utf8"
)

// Dialect is how a file is written.
type Dialect struct {
	// Delimiter stands between cells: one of , ; tab | or "" for one cell a
	// line.
	Delimiter string
	// Quote wraps cells that hold delimiters or line ends; "" for none.
	Quote string
	// Encoding is one of Encodings.
	Encoding string
	// Header tells that the first record names the columns.
	Header bool
}

func first(s string) byte {
	if s == "" {
		return 0
	}
	return s[0]
}

func (d Dialect) delimiter() byte { return first(d.Delimiter) }
func (d Dialect) quote() byte     { return first(d.Quote) }

var bom = []byte("\xef\xbb\xbf")

// Cells splits a record into the texts of its cells, quotes taken off, as
// UTF-8.
func (d Dialect) Cells(raw []byte) []string {
	b := trimEnd(bytes.TrimPrefix(raw, bom))
	cells := make([]string, 0, d.mostCells(b))
	whole := "" // where the cells stand in it as they are, they are cut out of one text
	if d.Encoding == UTF8 && utf8.Valid(b) {
		whole = string(b)
	}
	for at := 0; ; {
		cell, rest, more := d.cut(b)
		if whole != "" && !d.quoted(cell) {
			cells = append(cells, whole[at:at+len(cell)])
		} else {
			cells = append(cells, d.text(cell))
		}
		if !more || len(cells) >= MaxColumns {
			return cells
		}
		at += len(cell) + 1
		b = rest
	}
}

// mostCells is how many cells a record has at most.
func (d Dialect) mostCells(b []byte) int {
	if d.Delimiter == "" {
		return 1
	}
	return min(bytes.Count(b, []byte{d.delimiter()})+1, MaxColumns)
}

// quoted reports whether a cell begins with a quote.
func (d Dialect) quoted(cell []byte) bool {
	q := d.quote()
	return q != 0 && len(cell) > 1 && cell[0] == q
}

// Cell returns the text of the cell numbered n, from 0; "" where the record is
// shorter.
func (d Dialect) Cell(raw []byte, n int) string {
	b := trimEnd(bytes.TrimPrefix(raw, bom))
	for ; ; n-- {
		cell, rest, more := d.cut(b)
		if n == 0 {
			return d.text(cell)
		}
		if !more {
			return ""
		}
		b = rest
	}
}

// cut takes the first cell off, its quotes included.
func (d Dialect) cut(b []byte) (cell, rest []byte, more bool) {
	end := 0
	if q := d.quote(); q != 0 && len(b) > 0 && b[0] == q {
		end = closeQuote(b, q)
	}
	i := -1
	if d.Delimiter != "" {
		i = bytes.IndexByte(b[end:], d.delimiter())
	}
	if i < 0 {
		return b, nil, false
	}
	return b[:end+i], b[end+i+1:], true
}

// closeQuote returns the index after the quote that closes the quoted cell b
// begins with; doubled quotes are part of it.
func closeQuote(b []byte, q byte) int {
	for i := 1; i < len(b); i++ {
		if b[i] != q {
			continue
		}
		if i+1 < len(b) && b[i+1] == q {
			i++
			continue
		}
		return i + 1
	}
	return len(b)
}

// text takes the quotes off and decodes.
func (d Dialect) text(cell []byte) string {
	if q := d.quote(); d.quoted(cell) {
		end := closeQuote(cell, q)
		if cell[end-1] == q {
			inner := bytes.ReplaceAll(cell[1:end-1], []byte{q, q}, []byte{q})
			cell = append(inner, cell[end:]...)
		}
	}
	if d.Encoding == UTF8 && utf8.Valid(cell) {
		return string(cell)
	}
	if e, ok := singleByte[d.Encoding]; ok && (d.Encoding != Windows1252 || !utf8.Valid(cell)) {
		if out, err := e.NewDecoder().Bytes(cell); err == nil {
			return string(out)
		}
	}
	return string(bytes.ToValidUTF8(cell, []byte("\ufffd")))
}

// Mark returns the byte order mark that b begins with, if it does.
func Mark(b []byte) []byte {
	if bytes.HasPrefix(b, bom) {
		return b[:len(bom)]
	}
	return nil
}

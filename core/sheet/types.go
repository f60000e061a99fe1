package sheet

import (
	"bytes"
	"strconv"
	"strings"
	"time"
)

// Type is what the cells of a column hold.
type Type string

// The types. A column whose filled cells are not all alike is text, as is one
// whose numbers begin with a zero: those are codes.
const (
	Text   Type = "text"
	Number Type = "number"
	Date   Type = "date"
)

// layouts are the ways in which dates are written, the most likely first. Of
// those that read all cells of a column the first is taken.
var layouts = []string{
	"2006-01-02", "2006-01-02 15:04:05", time.RFC3339, "2006-01-02T15:04:05", "2006-01-02 15:04",
	"02.01.2006", "2.1.2006", "02.01.2006 15:04", "02/01/2006", "01/02/2006", "2/1/2006", "1/2/2006", "2006/01/02", "2 January 2006", "2 Jan 2006", "January 2, 2006",
}

// Kind is the type of a column, and for dates how they are written.
type Kind struct {
	Type   Type
	Layout string
}

// KindAt returns the kind of a column, from 0; that of a text where there is no such column.
func KindAt(kinds []Kind, column int) Kind {
	if column < 0 || column >= len(kinds) {
		return Kind{Type: Text}
	}
	return kinds[column]
}

// KindOf tells what the cells of a column hold. Days and months that could be
// either way round are told by the one cell that cannot; where no cell tells,
// the column is text, since a guess would change dates.
func KindOf(cells []string) Kind {
	numbers, filled := true, 0
	fit := append([]string(nil), layouts...)
	for _, c := range cells {
		if c = strings.TrimSpace(c); c == "" {
			continue
		}
		filled++
		_, number := ParseNumber(c)
		numbers = numbers && number
		kept := fit[:0]
		for _, l := range fit {
			if _, err := time.Parse(l, c); err == nil {
				kept = append(kept, l)
			}
		}
		fit = kept
	}
	switch {
	case filled == 0:
		return Kind{Type: Text}
	case numbers:
		return Kind{Type: Number}
	case len(fit) == 0 || strings.Contains(fit[0], "/") && !strings.HasPrefix(fit[0], "2006") && eitherWay(fit):
		return Kind{Type: Text}
	}
	return Kind{Type: Date, Layout: fit[0]}
}

// eitherWay tells layouts of which one begins with the day and one with the
// month.
func eitherWay(fit []string) bool {
	day, month := false, false
	for _, l := range fit {
		day = day || strings.HasPrefix(l, "02/") || strings.HasPrefix(l, "2/")
		month = month || strings.HasPrefix(l, "01/") || strings.HasPrefix(l, "1/")
	}
	return day && month
}

// ParseNumber reads a number that is written as a computer writes it, so that
// it can be written again as it was: no leading zero or plus, at most 15
// digits.
func ParseNumber(cell string) (float64, bool) {
	if len(cell) > 16 {
		return 0, false
	}
	f, err := strconv.ParseFloat(cell, 64)
	return f, err == nil && strconv.FormatFloat(f, 'f', -1, 64) == cell
}

// runnable begins what a spreadsheet may run as a formula.
const runnable = "=@\t\r+-"

// Formula reports whether a spreadsheet would run a cell as a formula. Numbers,
// and numbers of telephones, begin with plus or minus, and are none.
func Formula(cell string) bool {
	if cell == "" || !strings.Contains(runnable, cell[:1]) {
		return false
	}
	return cell[0] != '+' && cell[0] != '-' || strings.Trim(cell, "+-0123456789., ()/") != ""
}

// HasFormula reports whether a record has a cell that a spreadsheet would run as
// a formula.
func (d Dialect) HasFormula(raw []byte) bool {
	if !d.mayHaveFormula(raw) {
		return false
	}
	b := trimEnd(bytes.TrimPrefix(raw, bom))
	for more := true; more; {
		var cell []byte
		cell, b, more = d.cut(b)
		text := cell
		if q := d.quote(); q != 0 && len(text) > 0 && text[0] == q {
			text = text[1:]
		}
		if len(text) > 0 && strings.IndexByte(runnable, text[0]) >= 0 && Formula(d.text(cell)) {
			return true
		}
	}
	return false
}

// mayHaveFormula looks quickly: most records have no cell that begins so.
func (d Dialect) mayHaveFormula(raw []byte) bool {
	delimiter, quote, begins := d.delimiter(), d.quote(), true
	for _, c := range raw {
		switch {
		case c == delimiter && delimiter != 0:
			begins = true
		case begins && (c == '=' || c == '@' || c == '+' || c == '-' || c == '\t' || c == '\r'):
			return true
		case c != quote && c < 0x80: // a quote, or a byte order mark, may stand first
			begins = false
		}
	}
	return false
}

// Harmless makes a text of somebody else's safe for spreadsheets: whatever a
// spreadsheet may run gets a quote before it.
func Harmless(cell string) string {
	if cell != "" && strings.Contains(runnable, cell[:1]) {
		return "'" + cell
	}
	return cell
}

package format

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"io"
	"strings"
	"time"

	"varnet/core/sheet"
)

// Output is a format to write.
type Output string

// The formats that are written. AsBrought is the file's own, byte for byte.
const (
	AsBrought   Output = "original"
	Spreadsheet Output = "spreadsheet" // CSV that opens in columns
	OutXLSX     Output = "xlsx"
	OutODS      Output = "ods"
	OutJSONL    Output = "jsonl"
	OutText     Output = "txt" // one address a line
)

// Ending is the ending of a file of the format, and its media type.
func (o Output) Ending() (ending, kind string) {
	switch o {
	case OutXLSX:
		return ".xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
	case OutODS:
		return ".ods", "application/vnd.oasis.opendocument.spreadsheet"
	case OutJSONL:
		return ".jsonl", "application/x-ndjson"
	case OutText:
		return ".txt", "text/plain; charset=utf-8"
	}
	return ".csv", "text/csv; charset=utf-8"
}

// Rows writes a table row by row.
type Rows interface {
	Write(cells []string) error
	Close() error
}

// Column is a column to write. Workbooks keep dates and numbers as such, where
// a cell is one; all else is text.
type Column struct {
	Name string
	sheet.Kind
}

func columnNames(columns []Column) []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = c.Name
	}
	return out
}

// value is a cell of the column: a time, a number, or the text as it is.
func (c Column) value(cell string) any {
	switch c.Type {
	case sheet.Number:
		if f, ok := sheet.ParseNumber(cell); ok {
			return f
		}
	case sheet.Date:
		if t, err := time.Parse(c.Layout, strings.TrimSpace(cell)); err == nil && t.Year() >= 1900 {
			return t
		}
	}
	return cell
}

// dateOnly tells dates that are written without a time of day.
func (c Column) dateOnly() bool { return !strings.Contains(c.Layout, "15") }

// values are the cells of a row; what stands past the columns is text.
func values(columns []Column, row []string) []any {
	out := make([]any, len(row))
	for i, cell := range row {
		if out[i] = any(cell); i < len(columns) {
			out[i] = columns[i].value(cell)
		}
	}
	return out
}

// NewRows writes a table with these columns. Spreadsheets of a locale with
// decimal commas want semicolons between cells.
func NewRows(o Output, w io.Writer, columns []Column, semicolons bool) (Rows, error) {
	switch o {
	case OutXLSX:
		return newBook(w, columns)
	case OutODS:
		return newODS(w, columns)
	case OutJSONL:
		return newLines(w, columnNames(columns)), nil
	case OutText:
		return plain{bufio.NewWriter(w)}, nil
	}
	// The mark makes spreadsheets read UTF-8.
	if _, err := io.WriteString(w, "\ufeff"); err != nil {
		return nil, err
	}
	c := csv.NewWriter(w)
	c.UseCRLF = true
	if semicolons {
		c.Comma = ';'
	}
	return cells{c}, c.Write(columnNames(columns))
}

type cells struct{ w *csv.Writer }

func (c cells) Write(row []string) error { return c.w.Write(row) }

func (c cells) Close() error {
	c.w.Flush()
	return c.w.Error()
}

// plain writes the first cell of each row.
type plain struct{ w *bufio.Writer }

func (p plain) Write(row []string) error {
	_, err := p.w.WriteString(strings.NewReplacer("\r", " ", "\n", " ").Replace(row[0]) + "\n")
	return err
}

func (p plain) Close() error { return p.w.Flush() }

// lines writes an object a line, its names in the order of the columns; names
// that come twice get a number.
type lines struct {
	w     *bufio.Writer
	names []string
}

func newLines(w io.Writer, columns []string) lines {
	l, seen := lines{w: bufio.NewWriter(w)}, map[string]int{}
	for _, c := range columns {
		if seen[c]++; seen[c] > 1 {
			c += " " + string(rune('0'+min(seen[c], 9)))
		}
		l.names = append(l.names, c)
	}
	return l
}

func (l lines) Write(row []string) error {
	for i, name := range l.names {
		value := ""
		if i < len(row) {
			value = row[i]
		}
		open := ","
		if i == 0 {
			open = "{"
		}
		k, _ := json.Marshal(name) // texts can always be written
		v, _ := json.Marshal(value)
		if _, err := l.w.WriteString(open + string(k) + ":" + string(v)); err != nil {
			return err
		}
	}
	_, err := l.w.WriteString("}\n")
	return err
}

func (l lines) Close() error { return l.w.Flush() }

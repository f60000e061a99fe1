package format

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"
)

// Output is a format to write.
type Output string

// The formats that are written. AsBrought is the file's own, byte for byte.
const (
	AsBrought   Output = "brought"
	Spreadsheet Output = "spreadsheet" // CSV that opens in columns
	OutXLSX     Output = "xlsx"
	OutJSONL    Output = "jsonl"
	OutText     Output = "txt" // one address a line
)

// Ending is the ending of a file of the format, and its media type.
func (o Output) Ending() (ending, kind string) {
	switch o {
	case OutXLSX:
		return ".xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
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

// NewRows writes a table with these columns. Spreadsheets of a locale with
// decimal commas want semicolons between cells.
func NewRows(o Output, w io.Writer, columns []string, semicolons bool) (Rows, error) {
	switch o {
	case OutXLSX:
		return newBook(w, columns)
	case OutJSONL:
		return newLines(w, columns), nil
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
	return cells{c}, c.Write(columns)
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

// book writes a workbook whose rows go to a temporary file as they come.
type book struct {
	w       io.Writer
	file    *excelize.File
	rows    *excelize.StreamWriter
	n       int
	columns []string
}

// maxRows is how many rows a sheet of a workbook has.
const maxRows = 1_048_576

func newBook(w io.Writer, columns []string) (*book, error) {
	f := excelize.NewFile()
	const name = "List"
	if err := f.SetSheetName("Sheet1", name); err != nil {
		return nil, err
	}
	rows, err := f.NewStreamWriter(name)
	if err != nil {
		return nil, err
	}
	b := &book{w: w, file: f, rows: rows, columns: columns}
	for i, c := range columns {
		if err := rows.SetColWidth(i+1, i+1, float64(min(max(12, utf8.RuneCountInString(c)+4), 40))); err != nil {
			return nil, err
		}
	}
	if err := rows.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return nil, err
	}
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return nil, err
	}
	head := make([]any, len(columns))
	for i, c := range columns {
		head[i] = excelize.Cell{StyleID: bold, Value: c}
	}
	b.n = 1
	return b, rows.SetRow("A1", head)
}

// Write writes every cell as text: an address or a number of a member stays as
// it is, and nothing is run as a formula.
func (b *book) Write(row []string) error {
	if b.n++; b.n > maxRows {
		return wrong("A sheet has %d rows at the most. Take the rows out as CSV, or in parts.", maxRows)
	}
	values := make([]any, len(row))
	for i, c := range row {
		values[i] = c
	}
	at, err := excelize.CoordinatesToCellName(1, b.n)
	if err != nil {
		return err
	}
	return b.rows.SetRow(at, values)
}

func (b *book) Close() error {
	defer func() { _ = b.file.Close() }()
	if err := b.filter(); err != nil {
		return err
	}
	if err := b.rows.Flush(); err != nil {
		return err
	}
	_, err := b.file.WriteTo(b.w)
	return err
}

// filter makes the rows a table, whose columns can be filtered. A table's
// columns must have different names.
func (b *book) filter() error {
	seen := map[string]bool{}
	for _, c := range b.columns {
		if c = strings.ToLower(c); seen[c] || c == "" {
			return nil
		}
		seen[c] = true
	}
	end, err := excelize.CoordinatesToCellName(len(b.columns), max(b.n, 2))
	if err != nil || len(b.columns) == 0 {
		return err
	}
	return b.rows.AddTable(&excelize.Table{Range: "A1:" + end, Name: "List_1", StyleName: "TableStyleLight1"})
}

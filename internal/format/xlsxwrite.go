package format

import (
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"

	"varnet/core/sheet"
)

// book writes a workbook whose rows go to a temporary file as they come.
type book struct {
	w       io.Writer
	file    *excelize.File
	rows    *excelize.StreamWriter
	n       int
	columns []Column
	styles  []int // of the dates in each column
	// first are the first rows, which wait until the columns' widths are told
	// by them.
	first [][]string
	begun bool
}

// widthRows tell how wide the columns are.
const widthRows = 100

// maxRows is how many rows a sheet of a workbook has.
const maxRows = 1_048_576

func newBook(w io.Writer, columns []Column) (*book, error) {
	f := excelize.NewFile()
	const name = "List"
	if err := f.SetSheetName("Sheet1", name); err != nil {
		return nil, err
	}
	if err := printable(f, name); err != nil {
		return nil, err
	}
	rows, err := f.NewStreamWriter(name)
	if err != nil {
		return nil, err
	}
	b := &book{w: w, file: f, rows: rows, columns: columns, styles: make([]int, len(columns))}
	for i, c := range columns {
		if b.styles[i], err = b.dateStyle(c); err != nil {
			return nil, err
		}
	}
	return b, nil
}

// printable sets the sheet out for paper: on its side, all columns beside one
// another.
func printable(f *excelize.File, sheet string) error {
	yes, landscape, one, any := true, "landscape", 1, 0
	if err := f.SetSheetProps(sheet, &excelize.SheetPropsOptions{FitToPage: &yes}); err != nil {
		return err
	}
	return f.SetPageLayout(sheet, &excelize.PageLayoutOptions{Orientation: &landscape, FitToWidth: &one, FitToHeight: &any})
}

// begin writes the widths, the header and the rows that waited.
func (b *book) begin() error {
	b.begun = true
	for i, c := range b.columns {
		wide := utf8.RuneCountInString(c.Name) + 4 // beside the name stands the filter's button
		for _, row := range b.first {
			if i < len(row) {
				wide = max(wide, utf8.RuneCountInString(row[i])+2)
			}
		}
		if err := b.rows.SetColWidth(i+1, i+1, float64(min(max(8, wide), 48))); err != nil {
			return err
		}
	}
	if err := b.head(); err != nil {
		return err
	}
	for _, row := range b.first {
		if err := b.row(row); err != nil {
			return err
		}
	}
	b.first = nil
	return nil
}

// head writes the header, which stays in sight.
func (b *book) head() error {
	if err := b.rows.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2", ActivePane: "bottomLeft"}); err != nil {
		return err
	}
	bold, err := b.file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return err
	}
	head := make([]any, len(b.columns))
	for i, c := range b.columns {
		head[i] = excelize.Cell{StyleID: bold, Value: c.Name}
	}
	b.n = 1
	return b.rows.SetRow("A1", head)
}

// dateStyle is how the dates of a column are shown.
func (b *book) dateStyle(c Column) (int, error) {
	if c.Type != sheet.Date {
		return 0, nil
	}
	shown := "yyyy-mm-dd hh:mm"
	if c.dateOnly() {
		shown = "yyyy-mm-dd"
	}
	return b.file.NewStyle(&excelize.Style{CustomNumFmt: &shown})
}

// Write writes dates and numbers as such, and every other cell as text: a
// telephone number stays as it is, and nothing is run as a formula.
func (b *book) Write(row []string) error {
	if b.begun {
		return b.row(row)
	}
	if b.first = append(b.first, slices.Clone(row)); len(b.first) < widthRows {
		return nil
	}
	return b.begin()
}

func (b *book) row(row []string) error {
	if b.n++; b.n > maxRows {
		return wrong("A sheet has at most %d rows. Export the rows as CSV, or in parts.", maxRows)
	}
	values := values(b.columns, row)
	for i, v := range values {
		if t, ok := v.(time.Time); ok {
			values[i] = excelize.Cell{StyleID: b.styles[i], Value: t}
		}
	}
	at, err := excelize.CoordinatesToCellName(1, b.n)
	if err != nil {
		return err
	}
	return b.rows.SetRow(at, values)
}

func (b *book) Close() error {
	defer func() { _ = b.file.Close() }()
	if !b.begun {
		if err := b.begin(); err != nil {
			return err
		}
	}
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
		name := strings.ToLower(c.Name)
		if seen[name] || name == "" {
			return nil
		}
		seen[name] = true
	}
	end, err := excelize.CoordinatesToCellName(len(b.columns), max(b.n, 2))
	if err != nil || len(b.columns) == 0 {
		return err
	}
	return b.rows.AddTable(&excelize.Table{Range: "A1:" + end, Name: "List_1", StyleName: "TableStyleLight1"})
}

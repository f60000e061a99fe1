package export

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"varnet/core/address"
	"varnet/core/finding"
	"varnet/core/sheet"
	"varnet/internal/format"
	"varnet/internal/store"
)

// The forms in which rows are exported.
const (
	formRows        = "rows"
	formResults     = "results"
	formAddresses   = "addresses"
	formSuppression = "suppression"
)

// wants reports whether the file has a result column.
func (e *Export) wants(column string) bool {
	return e.options.Form == formResults && slices.ContainsFunc(e.columns, func(c resultColumn) bool { return c.name == column })
}

// with tells what must be read beside the rows. All rows as they stand need
// nothing else.
func (e *Export) with() store.OutWith {
	plain := (e.options.Form == formRows || e.options.Form == formAddresses) && len(e.list.AddressColumns) == 1
	if plain && e.options.Decision == allRows && e.options.Apart == "" && !e.options.Chooses() {
		return store.OutWith{}
	}
	w := e.decider.Needs()
	w.Domains = w.Domains || e.options.Domain != "" || e.options.Operator != ""
	w.Replies, w.Times = e.wants("reply") || e.wants("host"), w.Times || e.wants("checked")
	return w
}

// cell is an address cell of the row.
func (e *Export) cell(r *store.OutRow, slot int) string {
	cell := e.decoded().Cell(r.Raw, e.list.AddressColumns[slot])
	if !e.several {
		return cell
	}
	return address.Nth(cell, e.list.Nth(slot))
}

// decoded is the dialect of the rows as they are kept.
func (e *Export) decoded() sheet.Dialect { return e.list.Dialect.Kept() }

// mailbox is an address of the row, or its cell where that is none.
func (e *Export) mailbox(r *store.OutRow, slot int) string {
	cell := e.cell(r, slot)
	a, err := address.Parse(cell)
	if err != nil {
		return strings.TrimSpace(cell)
	}
	return a.Mailbox()
}

// insertion is cells that stand after a column, from 0.
type insertion struct {
	after int
	cells []string
}

// insertions are the cells that a record gets, the rightmost first, so that no
// insertion moves the place of the next: after each address column, or all
// after a chosen one.
func (e *Export) insertions(cells func(slot int) []string) (out []insertion) {
	if e.options.After > 0 {
		all := insertion{after: e.options.After - 1}
		for slot := range e.list.AddressColumns {
			all.cells = append(all.cells, cells(slot)...)
		}
		return []insertion{all}
	}
	for slot, column := range slices.Backward(e.list.AddressColumns) {
		out = append(out, insertion{column, cells(slot)})
	}
	slices.SortStableFunc(out, func(a, b insertion) int { return b.after - a.after })
	return out
}

// results are the row's result cells, made harmless for spreadsheets.
func (e *Export) results(r *store.OutRow) []insertion {
	return e.insertions(func(slot int) []string {
		out := make([]string, len(e.columns))
		for i, c := range e.columns {
			out[i] = sheet.Harmless(c.value(e, r, slot))
		}
		return out
	})
}

// resultTitles are the titles of the result columns; where there are several
// address columns, those after the first say whose they are.
func (e *Export) resultTitles() []insertion {
	return e.insertions(func(slot int) (titles []string) {
		of := ""
		if slot > 0 {
			of = " (" + e.list.Columns[e.list.AddressColumns[slot]] + ")"
			if n := e.list.Nth(slot); n > 0 {
				of = fmt.Sprintf(" (%s, address %d)", e.list.Columns[e.list.AddressColumns[slot]], n+1)
			}
		}
		for _, c := range e.columns {
			titles = append(titles, c.title+of)
		}
		return titles
	})
}

// rowWriter writes rows; slot is the address cell that decides on the row.
type rowWriter struct {
	write func(r *store.OutRow, slot int) error
	close func() error
}

// writer begins a file and returns what writes its rows.
func (e *Export) writer(out io.Writer) (rowWriter, error) {
	if e.options.Format == string(format.AsBrought) && (e.options.Form == formRows || e.options.Form == formResults) {
		return e.bytesWriter(out)
	}
	o := e.output()
	rows, err := format.NewRows(o, out, e.titles(), e.options.Semicolons)
	if err != nil {
		return rowWriter{}, err
	}
	return rowWriter{func(r *store.OutRow, slot int) error {
		for _, cells := range e.cells(r, slot) {
			if err := rows.Write(cells); err != nil {
				return err
			}
		}
		return nil
	}, rows.Close}, nil
}

// output is the format of a table that is written anew.
func (e *Export) output() format.Output {
	switch {
	case e.options.Format != string(format.AsBrought):
		return format.Output(e.options.Format)
	case e.options.Form == formAddresses:
		return format.OutText
	}
	return format.Spreadsheet
}

// bytesWriter writes rows as they stood in the file.
func (e *Export) bytesWriter(out io.Writer) (rowWriter, error) {
	w := e.list.Dialect.Writer(out)
	_, err := w.Write(e.header())
	whole := e.options.Decision == allRows && e.options.Apart == "" && e.options.RowsEach+e.options.Every+e.options.Sample == 0 && !e.options.Chooses()
	return rowWriter{func(r *store.OutRow, _ int) error {
		raw := r.Raw
		if e.options.Form == formResults {
			raw = e.insert(raw, e.results(r))
		}
		_, err := w.Write(raw)
		if err == nil && whole {
			_, err = w.Write(r.Tail)
		}
		return err
	}, w.Close}, err
}

func (e *Export) insert(raw []byte, all []insertion) []byte {
	for _, i := range all {
		raw = e.decoded().Insert(raw, i.after, i.cells)
	}
	return raw
}

// header is what stands before the first row, with the titles of the result
// columns in it.
func (e *Export) header() []byte {
	if !e.list.Dialect.Header || e.options.Form != formResults {
		return e.list.Header
	}
	var out []byte
	in := sheet.NewReader(strings.NewReader(string(e.list.Header)), e.decoded())
	for {
		rec, err := in.Next()
		if err != nil {
			return out
		}
		raw := rec.Raw
		if mark := sheet.Mark(raw); !rec.Blank() && len(raw) > len(mark) {
			raw = e.insert(raw, e.resultTitles())
		}
		out = append(out, raw...)
	}
}

// titles are the columns of a table that is written anew.
func (e *Export) titles() (out []format.Column) {
	switch o := e.output(); {
	case o == format.OutText || e.options.Form == formAddresses:
		return []format.Column{{Name: "e-mail", Kind: text}}
	case e.options.Form == formSuppression:
		return []format.Column{{Name: "e-mail", Kind: text}, {Name: "reason", Kind: text}}
	}
	for i, c := range e.list.Columns {
		kind := sheet.KindAt(e.list.Kinds, i)
		if slices.Contains(e.list.AddressColumns, i) {
			kind = text
		}
		out = append(out, format.Column{Name: e.guarded(c), Kind: kind})
	}
	if e.options.Form != formResults {
		return out
	}
	for _, i := range e.resultTitles() {
		var more []format.Column
		for n, title := range i.cells {
			more = append(more, format.Column{Name: title, Kind: e.columns[n%len(e.columns)].kind})
		}
		out = slices.Insert(out, min(i.after+1, len(out)), more...)
	}
	return out
}

// cells are the rows that a row becomes in a table that is written anew: one,
// or for a suppression list one for each of its addresses.
func (e *Export) cells(r *store.OutRow, slot int) [][]string {
	switch {
	case e.output() == format.OutText || e.options.Form == formAddresses:
		return [][]string{{e.guarded(e.mailbox(r, slot))}}
	case e.options.Form == formSuppression:
		return e.suppressed(r)
	}
	cells := e.decoded().Cells(r.Raw)
	for i := range cells {
		cells[i] = e.guarded(cells[i])
	}
	if e.options.Form == formResults {
		for _, i := range e.results(r) {
			for len(cells) <= i.after {
				cells = append(cells, "")
			}
			cells = slices.Insert(cells, i.after+1, i.cells...)
		}
	}
	return [][]string{cells}
}

// suppressed are the row's addresses, each with the reason.
func (e *Export) suppressed(r *store.OutRow) (out [][]string) {
	for slot := range r.Cells {
		c := &r.Cells[slot]
		if c.Address == 0 {
			continue
		}
		reason := e.decider.Ruling(e.decider.Cell(r, c)).Reason
		if v, ok := e.decider.Verdicts[c.Verdict]; ok && v.Finding == finding.Undeliverable {
			reason = info(v).Title
		}
		// Nobody looks through a list of those who are not to be written to before it is opened.
		out = append(out, []string{sheet.Harmless(e.mailbox(r, slot)), reason})
	}
	return out
}

func (e *Export) guarded(cell string) string {
	if e.options.Guard && sheet.Formula(cell) {
		return sheet.Harmless(cell)
	}
	return cell
}

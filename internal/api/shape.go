package api

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/finding"
	"varnet/core/sheet"
	"varnet/internal/contract"
	"varnet/internal/format"
	"varnet/internal/store"
)

// The forms in which rows are taken out.
const (
	formRows        = "rows"
	formResults     = "results"
	formAddresses   = "addresses"
	formSuppression = "suppression"
)

// shape is the form and format in which rows are taken out.
type shape struct {
	list    store.List
	in      contract.TakingOut
	judge   *judge
	known   *catalogue.Catalogue
	hosts   map[int64][]string // by parcel and conversation
	columns []resultColumn
	// several tells that cells of the list hold several addresses.
	several bool
}

// shapeOf reads what the form needs.
func (a *API) shapeOf(ctx context.Context, j *judge, in contract.TakingOut) (s *shape, err error) {
	s = &shape{list: j.list, in: in, judge: j, several: j.list.Several()}
	if s.columns, err = chooseColumns(in.Columns); err != nil {
		return nil, &sheet.Error{Problem: err.Error()}
	}
	if s.wants("suggestion") {
		if s.known, err = a.suggester(ctx, j.run); err != nil {
			return nil, err
		}
	}
	if s.wants("host") {
		s.hosts, err = a.store.Exchangers(ctx, j.run.ID)
	}
	return s, err
}

// wants tells whether the file has a result column.
func (s *shape) wants(column string) bool {
	return s.in.Form == formResults && slices.ContainsFunc(s.columns, func(c resultColumn) bool { return c.name == column })
}

// with tells what must be read beside the rows. All rows as they stand need
// nothing else.
func (s *shape) with() store.OutWith {
	plain := (s.in.Form == formRows || s.in.Form == formAddresses) && len(s.list.AddressColumns) == 1
	if plain && s.in.Decision == allRows && s.in.Apart == "" && !s.in.Chooses() {
		return store.OutWith{}
	}
	w := s.judge.with()
	w.Domains = w.Domains || s.in.Domain != "" || s.in.Operator != ""
	w.Replies = s.wants("reply") || s.wants("host")
	return w
}

// cell is an address cell of the row.
func (s *shape) cell(r *store.OutRow, slot int) string {
	cell := s.decoded().Cell(r.Raw, s.list.AddressColumns[slot])
	if !s.several {
		return cell
	}
	return address.Nth(cell, s.list.Nth(slot))
}

// decoded is the dialect of the rows as they are kept.
func (s *shape) decoded() sheet.Dialect { return s.list.Dialect.Kept() }

// mailbox is an address of the row, or its cell where that is none.
func (s *shape) mailbox(r *store.OutRow, slot int) string {
	cell := s.cell(r, slot)
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
func (s *shape) insertions(cells func(slot int) []string) (out []insertion) {
	if s.in.After > 0 {
		all := insertion{after: s.in.After - 1}
		for slot := range s.list.AddressColumns {
			all.cells = append(all.cells, cells(slot)...)
		}
		return []insertion{all}
	}
	for slot, column := range slices.Backward(s.list.AddressColumns) {
		out = append(out, insertion{column, cells(slot)})
	}
	slices.SortStableFunc(out, func(a, b insertion) int { return b.after - a.after })
	return out
}

// results are the row's result cells, made harmless for spreadsheets.
func (s *shape) results(r *store.OutRow) []insertion {
	return s.insertions(func(slot int) []string {
		out := make([]string, len(s.columns))
		for i, c := range s.columns {
			out[i] = sheet.Harmless(c.value(s, r, slot))
		}
		return out
	})
}

// resultTitles are the titles of the result columns; where there are several
// address columns, those after the first say whose they are.
func (s *shape) resultTitles() []insertion {
	return s.insertions(func(slot int) (titles []string) {
		of := ""
		if slot > 0 {
			of = " (" + s.list.Columns[s.list.AddressColumns[slot]] + ")"
			if n := s.list.Nth(slot); n > 0 {
				of = fmt.Sprintf(" (%s, address %d)", s.list.Columns[s.list.AddressColumns[slot]], n+1)
			}
		}
		for _, c := range s.columns {
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

// writer begins a file and gives what writes its rows.
func (s *shape) writer(out io.Writer) (rowWriter, error) {
	if s.in.Format == string(format.AsBrought) && (s.in.Form == formRows || s.in.Form == formResults) {
		return s.bytesWriter(out)
	}
	o := s.output()
	rows, err := format.NewRows(o, out, s.titles(), s.in.Semicolons)
	if err != nil {
		return rowWriter{}, err
	}
	return rowWriter{func(r *store.OutRow, slot int) error {
		for _, cells := range s.cells(r, slot) {
			if err := rows.Write(cells); err != nil {
				return err
			}
		}
		return nil
	}, rows.Close}, nil
}

// output is the format of a table that is written anew.
func (s *shape) output() format.Output {
	switch {
	case s.in.Format != string(format.AsBrought):
		return format.Output(s.in.Format)
	case s.in.Form == formAddresses:
		return format.OutText
	}
	return format.Spreadsheet
}

// bytesWriter writes rows as they stood in the file.
func (s *shape) bytesWriter(out io.Writer) (rowWriter, error) {
	w := s.list.Dialect.Writer(out)
	_, err := w.Write(s.header())
	whole := s.in.Decision == allRows && s.in.Apart == "" && s.in.RowsEach+s.in.Every+s.in.Sample == 0 && !s.in.Chooses()
	return rowWriter{func(r *store.OutRow, _ int) error {
		raw := r.Raw
		if s.in.Form == formResults {
			raw = s.insert(raw, s.results(r))
		}
		_, err := w.Write(raw)
		if err == nil && whole {
			_, err = w.Write(r.Tail)
		}
		return err
	}, w.Close}, err
}

func (s *shape) insert(raw []byte, all []insertion) []byte {
	for _, i := range all {
		raw = s.decoded().Insert(raw, i.after, i.cells)
	}
	return raw
}

// header is what stands before the first row, with the titles of the result
// columns in it.
func (s *shape) header() []byte {
	if !s.list.Dialect.Header || s.in.Form != formResults {
		return s.list.Header
	}
	var out []byte
	in := sheet.NewReader(strings.NewReader(string(s.list.Header)), s.decoded())
	for {
		rec, err := in.Next()
		if err != nil {
			return out
		}
		raw := rec.Raw
		if mark := sheet.Mark(raw); !rec.Blank() && len(raw) > len(mark) {
			raw = s.insert(raw, s.resultTitles())
		}
		out = append(out, raw...)
	}
}

// titles are the columns of a table that is written anew.
func (s *shape) titles() (out []format.Column) {
	switch o := s.output(); {
	case o == format.OutText || s.in.Form == formAddresses:
		return []format.Column{{Name: "e-mail", Kind: text}}
	case s.in.Form == formSuppression:
		return []format.Column{{Name: "e-mail", Kind: text}, {Name: "reason", Kind: text}}
	}
	for i, c := range s.list.Columns {
		kind := text
		if i < len(s.list.Kinds) && !slices.Contains(s.list.AddressColumns, i) {
			kind = s.list.Kinds[i]
		}
		out = append(out, format.Column{Name: c, Kind: kind})
	}
	if s.in.Form != formResults {
		return out
	}
	for _, i := range s.resultTitles() {
		var more []format.Column
		for n, title := range i.cells {
			more = append(more, format.Column{Name: title, Kind: s.columns[n%len(s.columns)].kind})
		}
		out = slices.Insert(out, min(i.after+1, len(out)), more...)
	}
	return out
}

// cells are the rows that a row becomes in a table that is written anew: one,
// or for a suppression list one for each of its addresses.
func (s *shape) cells(r *store.OutRow, slot int) [][]string {
	switch {
	case s.output() == format.OutText || s.in.Form == formAddresses:
		return [][]string{{s.guarded(s.mailbox(r, slot))}}
	case s.in.Form == formSuppression:
		return s.suppressed(r)
	}
	cells := s.decoded().Cells(r.Raw)
	for i := range cells {
		cells[i] = s.guarded(cells[i])
	}
	if s.in.Form == formResults {
		for _, i := range s.results(r) {
			for len(cells) <= i.after {
				cells = append(cells, "")
			}
			cells = slices.Insert(cells, i.after+1, i.cells...)
		}
	}
	return [][]string{cells}
}

// suppressed are the row's addresses, each with the reason.
func (s *shape) suppressed(r *store.OutRow) (out [][]string) {
	for slot := range r.Cells {
		c := &r.Cells[slot]
		if c.Address == 0 {
			continue
		}
		reason := s.judge.ruling(s.judge.cell(r, c)).Reason
		if v, ok := s.judge.verdicts[c.Verdict]; ok && v.Finding == finding.Undeliverable {
			reason = info(v).Title
		}
		out = append(out, []string{s.guarded(s.mailbox(r, slot)), reason})
	}
	return out
}

func (s *shape) guarded(cell string) string {
	if s.in.Guard && sheet.Formula(cell) {
		return sheet.Harmless(cell)
	}
	return cell
}

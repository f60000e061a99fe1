package api

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"varnet/core/address"
	"varnet/core/catalogue"
	"varnet/core/finding"
	"varnet/core/policy"
	"varnet/core/sheet"
	"varnet/internal/contract"
	"varnet/internal/format"
	"varnet/internal/store"
)

// shape is the form and format in which rows are taken out.
type shape struct {
	list     store.List
	in       *takeOutInput
	verdicts map[int32]finding.Verdict
	rulings  map[int32]policy.Ruling // by verdict
	known    *catalogue.Catalogue
	columns  []resultColumn
}

// ruling rules on a row as tallyRows counts it.
func (s *shape) ruling(r *store.OutRow) policy.Ruling {
	switch {
	case r.Address == 0:
		return policy.NoAddress
	case r.Address != r.Ordinal:
		return policy.Duplicate
	}
	if ruling, ok := s.rulings[r.Verdict]; ok {
		return ruling
	}
	return policy.Open
}

// rulings rules once on each verdict.
func rulings(p policy.Policy, verdicts map[int32]finding.Verdict) map[int32]policy.Ruling {
	out := make(map[int32]policy.Ruling, len(verdicts))
	for id, v := range verdicts {
		out[id] = p.Decide(v)
	}
	return out
}

// resultColumn is a column of results. A duplicate shows what was found out
// about its address.
type resultColumn struct {
	name, title string
	value       func(s *shape, r *store.OutRow, v finding.Verdict) string
}

var resultColumns = []resultColumn{
	{"finding", "Finding", func(_ *shape, _ *store.OutRow, v finding.Verdict) string { return string(v.Finding) }},
	{"cause", "Cause", func(_ *shape, _ *store.OutRow, v finding.Verdict) string { return string(v.Cause) }},
	{"title", "In short", func(_ *shape, _ *store.OutRow, v finding.Verdict) string { return info(v).Title }},
	{"meaning", "What it means", func(_ *shape, _ *store.OutRow, v finding.Verdict) string { return info(v).Meaning }},
	{"advice", "What to do", func(_ *shape, _ *store.OutRow, v finding.Verdict) string { return info(v).Advice }},
	{"traits", "Traits", func(_ *shape, _ *store.OutRow, v finding.Verdict) string {
		return strings.Trim(strings.ReplaceAll(fmt.Sprint([]finding.Trait(v.Traits)), " ", "; "), "[]")
	}},
	{"odds", "Odds", func(_ *shape, _ *store.OutRow, v finding.Verdict) string {
		if v.Finding == "" {
			return ""
		}
		return fmt.Sprintf("%.2f", v.Odds)
	}},
	{"decision", "Decision", func(s *shape, r *store.OutRow, _ finding.Verdict) string { return string(s.ruling(r).Decision) }},
	{"reason", "Reason", func(s *shape, r *store.OutRow, _ finding.Verdict) string { return s.ruling(r).Reason }},
	{"suggestion", "Meant perhaps", func(s *shape, r *store.OutRow, _ finding.Verdict) string {
		a, err := address.Parse(s.cell(r))
		if err != nil {
			return ""
		}
		return suggestion(a.Mailbox(), s.known.Suggest(a.Domain))
	}},
	{"checked", "Checked at", func(_ *shape, r *store.OutRow, _ finding.Verdict) string {
		if r.At == nil {
			return ""
		}
		return r.At.UTC().Format(time.RFC3339)
	}},
}

func info(v finding.Verdict) finding.CauseInfo {
	i, _ := finding.Lookup(v.Cause)
	return i
}

// usualColumns are the result columns that are given unless others are chosen.
var usualColumns = []string{"finding", "cause", "decision"}

// chooseColumns settles the result columns.
func (s *shape) chooseColumns(names []string) error {
	if len(names) == 0 {
		names = usualColumns
	}
	for _, n := range names {
		i := slices.IndexFunc(resultColumns, func(c resultColumn) bool { return c.name == n })
		if i < 0 {
			var known []string
			for _, c := range resultColumns {
				known = append(known, c.name)
			}
			return fmt.Errorf("there is no result column %q; there is: %s", n, strings.Join(known, ", "))
		}
		s.columns = append(s.columns, resultColumns[i])
	}
	return nil
}

// columnBodies tells which result columns there are.
func columnBodies() (out []contract.ResultColumn) {
	for _, c := range resultColumns {
		out = append(out, contract.ResultColumn{Name: c.name, Title: c.title, Usual: slices.Contains(usualColumns, c.name)})
	}
	return out
}

// cell is the row's address cell.
func (s *shape) cell(r *store.OutRow) string {
	return s.decoded().Cell(r.Raw, s.list.AddressColumn)
}

// decoded is the dialect of the rows as they are kept.
func (s *shape) decoded() sheet.Dialect { return s.list.Dialect.Kept() }

// mailbox is the row's address, or its cell where that is none.
func (s *shape) mailbox(r *store.OutRow) string {
	a, err := address.Parse(s.cell(r))
	if err != nil {
		return strings.TrimSpace(s.cell(r))
	}
	return a.Mailbox()
}

// results are the row's result cells, made harmless for spreadsheets.
func (s *shape) results(r *store.OutRow) []string {
	out := make([]string, len(s.columns))
	for i, c := range s.columns {
		out[i] = harmless(c.value(s, r, s.verdicts[r.Verdict]))
	}
	return out
}

// rowWriter writes rows.
type rowWriter struct {
	write func(r *store.OutRow) error
	close func() error
}

// writer begins a file and gives what writes its rows.
func (s *shape) writer(out io.Writer) (rowWriter, error) {
	raw := s.in.Form == formRows || s.in.Form == formResults
	if s.in.Format == string(format.AsBrought) && raw {
		return s.bytesWriter(out)
	}
	o := format.Output(s.in.Format)
	if s.in.Format == string(format.AsBrought) {
		o = format.Spreadsheet
		if s.in.Form == formAddresses {
			o = format.OutText
		}
	}
	rows, err := format.NewRows(o, out, s.titles(o), s.in.Semicolons)
	if err != nil {
		return rowWriter{}, err
	}
	return rowWriter{func(r *store.OutRow) error { return rows.Write(s.cells(o, r)) }, rows.Close}, nil
}

// bytesWriter writes rows as they stood in the file.
func (s *shape) bytesWriter(out io.Writer) (rowWriter, error) {
	w := s.list.Dialect.Writer(out)
	insert := func(raw []byte, cells []string) []byte {
		if s.in.Form != formResults {
			return raw
		}
		return s.decoded().Insert(raw, s.list.AddressColumn, cells)
	}
	_, err := w.Write(s.header(insert))
	return rowWriter{func(r *store.OutRow) error {
		raw := r.Raw
		if s.in.Form == formResults {
			raw = insert(raw, s.results(r))
		}
		_, err := w.Write(raw)
		if err == nil && s.in.Decision == allRows {
			_, err = w.Write(r.Tail)
		}
		return err
	}, w.Close}, err
}

// header is what stands before the first row, with the titles of the result
// columns in it.
func (s *shape) header(insert func([]byte, []string) []byte) []byte {
	if !s.list.Dialect.Header {
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
			raw = insert(raw, s.resultTitles())
		}
		out = append(out, raw...)
	}
}

func (s *shape) resultTitles() (titles []string) {
	for _, c := range s.columns {
		titles = append(titles, c.title)
	}
	return titles
}

// titles are the names of the columns of a table that is written anew.
func (s *shape) titles(o format.Output) []string {
	switch {
	case o == format.OutText || s.in.Form == formAddresses:
		return []string{"e-mail"}
	case s.in.Form == formSuppression:
		return []string{"e-mail", "reason"}
	case s.in.Form == formResults:
		return slices.Insert(slices.Clone(s.list.Columns), s.list.AddressColumn+1, s.resultTitles()...)
	}
	return s.list.Columns
}

// cells are the row's cells in a table that is written anew.
func (s *shape) cells(o format.Output, r *store.OutRow) []string {
	switch {
	case o == format.OutText || s.in.Form == formAddresses:
		return []string{s.guarded(s.mailbox(r))}
	case s.in.Form == formSuppression:
		reason := s.ruling(r).Reason
		if v, ok := s.verdicts[r.Verdict]; ok && v.Finding == finding.Undeliverable {
			reason = info(v).Title
		}
		return []string{s.guarded(s.mailbox(r)), reason}
	}
	cells := s.decoded().Cells(r.Raw)
	for i := range cells {
		cells[i] = s.guarded(cells[i])
	}
	if s.in.Form == formResults {
		for len(cells) <= s.list.AddressColumn {
			cells = append(cells, "")
		}
		cells = slices.Insert(cells, s.list.AddressColumn+1, s.results(r)...)
	}
	return cells
}

func (s *shape) guarded(cell string) string {
	if s.in.Guard {
		return harmless(cell)
	}
	return cell
}

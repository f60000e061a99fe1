package intake

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"varnet/core/address"
	"varnet/core/sheet"
	"varnet/internal/store"
)

// Mode is what a newer file does with the rows of a list.
type Mode string

// The modes.
const (
	Append  Mode = "append"  // its rows come after the list's
	Replace Mode = "replace" // its rows stand for the list's
	Update  Mode = "update"  // its rows change those with the same key, and come after them otherwise
)

// Newer is a newer file for a list that is there.
type Newer struct {
	File
	List store.List
	Mode Mode
	// RowKey is the column by which rows are found again; "" for the address.
	RowKey string
}

// maxUpdate is how much of an update is held in memory: its rows wait until
// theirs come by.
const maxUpdate = 128 << 20

// ImportNewer imports a newer file for a list that is there. What comes of it is a list of
// its own, so that the runs of the earlier one stay what they are.
func (i *Importer) ImportNewer(ctx context.Context, in Newer, body io.Reader) (store.List, error) {
	read, l, err := in.open(ctx, body)
	if err != nil {
		return l, err
	}
	defer read.Close()
	if l.Name, l.EarlierID = in.List.Name, &in.List.ID; l.Meanings == nil {
		l.Meanings = meaningsIn(in.List, l.Columns)
	}
	if in.Mode == Replace {
		err = i.rows(ctx, in.File, &l, read.Rest, read.NoAddressColumn)
		return l, err
	}
	m := &merger{in: in, store: i.Store.Requests(), grammar: i.Grammar, read: read}
	if err := m.columns(); err != nil {
		return l, err
	}
	l.Format, l.Sheet, l.Packed, l.FileName = in.List.Format, in.List.Sheet, in.List.Packed, in.List.FileName
	l.Dialect, l.Columns, l.AddressColumns, l.Kinds = in.List.Dialect, m.names, in.List.AddressColumns, m.kinds
	l.Meanings = meaningsIn(in.List, l.Columns)
	r, w := io.Pipe()
	defer r.Close()
	go func() { _ = w.CloseWithError(m.write(ctx, w)) }()
	err = i.rows(ctx, in.File, &l, &counting{r, &l, m}, read.NoAddressColumn)
	return l, err
}

// meaningsIn are what somebody said that the columns of a list hold, as far as a newer file has them.
func meaningsIn(l store.List, columns []string) (out []sheet.Meaning) {
	if l.Meanings == nil {
		return nil
	}
	out = []sheet.Meaning{}
	for _, m := range l.Meanings {
		if at := slices.Index(columns, l.Columns[m.Column]); at >= 0 {
			m.Column = at
			out = append(out, m)
		}
	}
	return out
}

// counting tells the list what was merged once all of it is.
type counting struct {
	io.Reader
	list *store.List
	m    *merger
}

func (c *counting) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	if errors.Is(err, io.EOF) {
		c.list.Added, c.list.Changed = c.m.added, c.m.changed
	}
	return n, err
}

// merger writes the rows of a list and those of a file as one text, as the list
// is written.
type merger struct {
	in      Newer
	store   *store.Store
	grammar address.Grammar
	read    *Reading
	names   []string // the columns of the list, and then the new ones of the file
	kinds   []sheet.Kind
	place   []int // of each of the file's columns among them
	same    bool  // the file is written as the list is
	end     []byte
	held    map[string]*heldRow // of an update, by key
	order   []*heldRow
	added   int64
	changed int64
}

type heldRow struct {
	cells []string
	used  bool
}

// columns finds the file's columns among the list's: by name, or where there is
// no header by their order.
func (m *merger) columns() error {
	l := m.in.List
	m.names, m.kinds = slices.Clone(l.Columns), slices.Clone(l.Kinds)
	if !m.read.Dialect.Header || !l.Dialect.Header {
		if len(m.read.Columns) != len(l.Columns) {
			return &sheet.Error{Problem: fmt.Sprintf("The file has %d columns and the list %d, and without names in the first line nobody can tell which belong together. Give the file a header.", len(m.read.Columns), len(l.Columns))}
		}
		for i := range m.read.Columns {
			m.place = append(m.place, i)
		}
	} else {
		for i, name := range m.read.Columns {
			at := m.column(name)
			if at < 0 {
				at = len(m.names)
				m.names, m.kinds = append(m.names, name), append(m.kinds, m.read.Kinds[i])
			}
			m.place = append(m.place, at)
		}
	}
	if at := l.AddressColumns[0]; !slices.Contains(m.place, at) {
		return &sheet.Error{Problem: fmt.Sprintf("The file has no column “%s”, which holds the addresses of the list (columns: %s). Name it so.", l.Columns[at], strings.Join(m.read.Columns[:min(len(m.read.Columns), 12)], ", "))}
	}
	if at := m.column(m.in.RowKey); m.in.RowKey != "" && (at < 0 || !slices.Contains(m.place, at)) {
		return &sheet.Error{Problem: fmt.Sprintf("The column “%s” must be in the list and in the file to find rows again by it.", m.in.RowKey)}
	}
	if len(m.names) > len(l.Columns) && l.Dialect.Delimiter == "" {
		return &sheet.Error{Problem: fmt.Sprintf("The list has one column and the file %d. Take the addresses of the file alone, or replace the list by it.", len(m.read.Columns))}
	}
	written := m.read.Dialect
	written.Header = l.Dialect.Header
	m.same = written == l.Dialect && slices.Equal(m.place, inOrderOf(l.Columns))
	return nil
}

// inOrderOf are the places of columns that stand as they are.
func inOrderOf(columns []string) []int {
	out := make([]int, len(columns))
	for i := range out {
		out[i] = i
	}
	return out
}

func (m *merger) column(name string) int {
	return slices.IndexFunc(m.names, func(n string) bool { return strings.EqualFold(n, strings.TrimSpace(name)) })
}

// write writes the merged text in the list's dialect.
func (m *merger) write(ctx context.Context, to io.Writer) error {
	if m.in.Mode == Update {
		if err := m.hold(); err != nil {
			return err
		}
	}
	out := m.in.List.Dialect.Writer(to)
	if _, err := out.Write(m.header()); err != nil {
		return err
	}
	err := m.store.EachRow(ctx, store.Run{}, m.in.List, store.OutWith{}, func(r *store.OutRow) error {
		raw := m.updated(r.Raw)
		if len(sheet.LineEnd(raw)) == 0 { // the last, without a line end
			raw = append(bytes.Clone(raw), m.lineEnd()...)
		}
		m.end = bytes.Clone(sheet.LineEnd(raw))
		_, err := out.Write(append(raw, r.Tail...))
		return err
	})
	if err != nil {
		return err
	}
	if err := m.rest(out); err != nil {
		return err
	}
	return out.Close()
}

func (m *merger) kept() sheet.Dialect { return m.in.List.Dialect.Kept() }

// lineEnd is how lines of the list end.
func (m *merger) lineEnd() []byte {
	if len(m.end) == 0 {
		if m.end = bytes.Clone(sheet.LineEnd(m.in.List.Header)); len(m.end) == 0 {
			m.end = []byte("\n")
		}
	}
	return m.end
}

// header is the list's, with the names of new columns at its end.
func (m *merger) header() []byte {
	head := m.in.List.Header
	if more := m.names[len(m.in.List.Columns):]; len(more) > 0 && m.in.List.Dialect.Header {
		end := sheet.LineEnd(head)
		head = append(bytes.Clone(head[:len(head)-len(end)]), m.kept().Delimiter...)
		head = append(append(head, m.kept().Record(more)...), end...)
	}
	if len(head) > 0 && len(sheet.LineEnd(head)) == 0 && m.in.List.Dialect.Header {
		head = append(bytes.Clone(head), m.lineEnd()...)
	}
	return head
}

// eachNew returns the rows of the file, with their cells under the list's
// columns.
func (m *merger) eachNew(do func(raw []byte, cells []string) error) error {
	for rec, err := range m.read.Records() {
		if err != nil {
			return err
		}
		cells := make([]string, len(m.names))
		for i, c := range m.read.Dialect.Kept().Cells(rec.Raw) {
			if i < len(m.place) {
				cells[m.place[i]] = c
			}
		}
		if err := do(rec.Raw, cells); err != nil {
			return err
		}
	}
	return nil
}

// rest writes the rows of the file that come after the list's.
func (m *merger) rest(out io.Writer) error {
	add := func(record []byte) error {
		m.added++
		_, err := out.Write(append(record, m.lineEnd()...))
		return err
	}
	if m.in.Mode == Update {
		for _, h := range m.order {
			if !h.used {
				if err := add(m.kept().Record(h.cells)); err != nil {
					return err
				}
			}
		}
		return nil
	}
	return m.eachNew(func(raw []byte, cells []string) error {
		if m.same {
			return add(bytes.Clone(raw[:len(raw)-len(sheet.LineEnd(raw))]))
		}
		return add(m.kept().Record(cells))
	})
}

// hold reads the rows of an update into memory, the last of those with the same
// key.
func (m *merger) hold() error {
	m.held = map[string]*heldRow{}
	size := 0
	return m.eachNew(func(raw []byte, cells []string) error {
		if size += len(raw) + 64*len(cells); size > maxUpdate {
			return &sheet.Error{Problem: fmt.Sprintf("An update may take %d MB of rows. Split the file, or replace the whole list.", maxUpdate>>20)}
		}
		key := m.key(cells)
		if h := m.held[key]; h != nil && key != "" {
			h.cells = cells
			return nil
		}
		h := &heldRow{cells: cells}
		m.order = append(m.order, h)
		if key != "" {
			m.held[key] = h
		}
		return nil
	})
}

// key is what a row is found again by.
func (m *merger) key(cells []string) string {
	at := m.in.List.AddressColumns[0]
	if m.in.RowKey != "" {
		at = m.column(m.in.RowKey)
	}
	if at >= len(cells) {
		return ""
	}
	cell := strings.TrimSpace(cells[at])
	if m.in.RowKey == "" {
		if a, err := m.grammar.Parse(cell); err == nil {
			return a.Identity(address.Sameness{})
		}
	}
	return strings.ToLower(cell)
}

// updated returns a row of the list as the file changes it; one that stays the
// same keeps its bytes.
func (m *merger) updated(raw []byte) []byte {
	if m.in.Mode != Update {
		return raw
	}
	cells := m.kept().Cells(raw)
	h := m.held[m.key(cells)]
	if h == nil {
		return raw
	}
	h.used = true
	changed := false
	for _, at := range m.place {
		for len(cells) <= at {
			cells = append(cells, "")
		}
		if cells[at] != h.cells[at] {
			cells[at], changed = h.cells[at], true
		}
	}
	if !changed {
		return raw
	}
	m.changed++
	return append(m.kept().Record(cells), sheet.LineEnd(raw)...)
}

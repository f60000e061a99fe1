package format

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"

	"varnet/core/sheet"
)

// rows returns the table as CSV, a row at a time as it is read: next returns the
// cells of the next row, nil after the last.
func (t *Table) rows(k Kind, next func() ([]string, error)) {
	t.Kind = k
	r, w := io.Pipe()
	t.Reader = r
	done := make(chan struct{})
	t.closers = append(t.closers, func() { _ = r.Close(); <-done })
	go func() {
		defer close(done)
		_ = w.CloseWithError(write(w, k, next))
	}()
}

func write(w io.Writer, k Kind, next func() ([]string, error)) (err error) {
	// Readers of foreign formats are many people's work; one that fails on a
	// damaged file must not end the service.
	defer func() {
		if fault := recover(); fault != nil {
			err = damaged(k)
		}
	}()
	out := csv.NewWriter(w)
	for n := 1; ; n++ {
		cells, err := next()
		if err != nil {
			return err
		}
		if cells == nil {
			break
		}
		if len(cells) > maxColumns {
			return tooWide(n, len(cells))
		}
		if err := out.Write(cells); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

func damaged(k Kind) error {
	return wrong("The %s file is damaged and cannot be read to its end. Open it where it was made, save it again, and import that.", k)
}

// columns are those of a table, as they are found on the way.
type columns struct {
	names []string
	place map[string]int
}

func (c *columns) add(name string) error {
	if _, ok := c.place[name]; ok {
		return nil
	}
	if len(c.names) >= maxColumns {
		return fmt.Errorf("more than %d", maxColumns)
	}
	if c.place == nil {
		c.place = map[string]int{}
	}
	c.place[name] = len(c.names)
	c.names = append(c.names, name)
	return nil
}

// row puts a record's values under their columns.
func (c *columns) row(record []field) []string {
	cells := make([]string, len(c.names))
	several := map[int][]string{} // what a record says more than once
	for _, f := range record {
		switch i := c.place[f.name]; {
		case f.value == "":
		case cells[i] == "":
			cells[i] = f.value
		default:
			if several[i] == nil {
				several[i] = []string{cells[i]}
			}
			several[i] = append(several[i], f.value)
		}
	}
	for i, values := range several {
		cells[i] = strings.Join(values, "; ")
	}
	return cells
}

// field is one named value of a record.
type field struct{ name, value string }

// maxCell is how much a cell of a spreadsheet may hold, in bytes.
const maxCell = 1 << 20

func largeCell() error {
	return wrong("A cell of the spreadsheet holds more than 1 MB. Remove what is not data.")
}

func tooWide(row, cells int) error {
	return wrong("Row %d has %d cells; a file of this kind may have %d. Remove what is not data, or save it as CSV.", row, cells, maxColumns)
}

func tooLong() error {
	return wrong("The file has a line longer than %d bytes. Break it into lines, or remove what is not data.", sheet.MaxRecord)
}

// line reads one line with its end, of bounded length.
func line(in *bufio.Reader) (string, error) {
	var out []byte
	for {
		part, err := in.ReadSlice('\n')
		out = append(out, part...)
		switch {
		case len(out) > sheet.MaxRecord:
			return "", tooLong()
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case errors.Is(err, io.EOF) && len(out) > 0:
			return string(out), nil
		}
		return string(out), err
	}
}

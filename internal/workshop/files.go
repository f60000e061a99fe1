// Package workshop is the workshop at work: files and lists as tables, and what is made of them
// as files and lists.
package workshop

import (
	"context"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/core/workshop"
	"varnet/internal/format"
	"varnet/internal/intake"
)

// File is a file as a table, whose rows are read anew each time. It is guessed how it is written,
// and which columns hold addresses.
func File(ctx context.Context, path, sheetName string, o sheet.Overrule) (t workshop.Table, err error) {
	err = opened(ctx, path, sheetName, o, func(r *intake.Reading) error {
		t = workshop.Table{Name: filepath.Base(path), Columns: r.Columns, Kinds: r.Kinds, Addresses: distinct(r.AddressColumns())}
		kept := r.Dialect.Kept()
		t.Written = &r.Dialect
		for _, err := range r.Records() {
			if err != nil {
				return err
			}
			break
		}
		t.Head = r.Head
		t.Rows = func() iter.Seq2[workshop.Row, error] { return rowsOf(ctx, path, sheetName, o, &kept) }
		return nil
	})
	return t, err
}

// distinct leaves out what comes again: a column stands for each of the addresses of its cells.
func distinct(columns []int) (out []int) {
	for _, c := range columns {
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out
}

// opened opens a file, and names it in errors.
func opened(ctx context.Context, path, sheetName string, o sheet.Overrule, do func(*intake.Reading) error) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("%s: %w", path, say.WithoutPath(err))
	}
	defer f.Close()
	r, err := intake.Read(ctx, f, sheetName, o)
	if err == nil {
		defer r.Close()
		err = do(r)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

func rowsOf(ctx context.Context, path, sheetName string, o sheet.Overrule, kept *sheet.Dialect) iter.Seq2[workshop.Row, error] {
	return func(yield func(workshop.Row, error) bool) {
		err := opened(ctx, path, sheetName, o, func(r *intake.Reading) error {
			for rec, err := range r.Records() {
				if err == nil {
					err = ctx.Err()
				}
				if err != nil {
					return err
				}
				if !yield(workshop.RawRow(rec.Raw, kept), nil) {
					return nil
				}
			}
			return nil
		})
		if err != nil {
			yield(workshop.Row{}, err)
		}
	}
}

// Ending is the format that a file's name asks for: that of its ending, text otherwise.
func Ending(name string) format.Output {
	for _, o := range []format.Output{format.OutXLSX, format.OutODS, format.OutJSONL} {
		if ending, _ := o.Ending(); strings.EqualFold(filepath.Ext(name), ending) {
			return o
		}
	}
	return format.AsBrought
}

// Write writes a table: as text as its file is written, where its rows still stand so, and
// otherwise with commas, in UTF-8.
func Write(t workshop.Table, o format.Output, w io.Writer) error {
	if o == format.AsBrought {
		return writeText(t, w)
	}
	columns := make([]format.Column, len(t.Columns))
	for i, name := range t.Columns {
		columns[i] = format.Column{Name: name}
		if i < len(t.Kinds) {
			columns[i].Kind = t.Kinds[i]
		}
	}
	out, err := format.NewRows(o, w, columns, false)
	if err != nil {
		return err
	}
	for row, err := range t.Rows() {
		if err != nil {
			return err
		}
		if err := out.Write(row.Cells()); err != nil {
			return err
		}
	}
	return out.Close()
}

// Dialect is how Write writes a table as text.
func Dialect(t workshop.Table) sheet.Dialect {
	if t.Written != nil {
		return *t.Written
	}
	return sheet.Dialect{Delimiter: ",", Quote: `"`, Encoding: sheet.UTF8, Header: true}
}

func writeText(t workshop.Table, w io.Writer) error {
	out, err := newText(t, w)
	if err != nil {
		return err
	}
	for row, err := range t.Rows() {
		if err != nil {
			return err
		}
		if err := out.write(row); err != nil {
			return err
		}
	}
	return out.Close()
}

// text writes rows of a table as text.
type text struct {
	io.WriteCloser
	kept sheet.Dialect
	raw  bool
	end  []byte
}

// newText writes what stands before the first row.
func newText(t workshop.Table, w io.Writer) (*text, error) {
	d := Dialect(t)
	out := &text{d.Writer(w), d.Kept(), t.Written != nil, slices.Clone(sheet.LineEnd(t.Head))}
	if len(out.end) == 0 {
		out.end = []byte("\n")
	}
	head := t.Head
	if t.Written == nil {
		head = out.kept.Record(t.Columns)
	}
	if len(head) > 0 && len(sheet.LineEnd(head)) == 0 {
		head = append(slices.Clone(head), out.end...)
	}
	_, err := out.Write(head)
	return out, err
}

func (x *text) write(row workshop.Row) error {
	raw := row.Raw()
	if !x.raw || raw == nil {
		raw = x.kept.Record(row.Cells())
	}
	if len(sheet.LineEnd(raw)) == 0 { // the last of its file, or made of cells
		raw = append(slices.Clone(raw), x.end...)
	}
	_, err := x.Write(raw)
	return err
}

package format

import (
	"archive/zip"
	"fmt"
	"os"
	"strings"

	"github.com/xuri/excelize/v2"
)

// xlsx reads one sheet of an XLSX workbook: values as they are shown, of
// formulas the last ones computed.
func (t *Table) xlsx(f *os.File, z *zip.Reader, o Options) error {
	var unpacked uint64
	for _, m := range z.File {
		unpacked += m.UncompressedSize64
	}
	if unpacked > MaxUnpacked {
		return wrong("The spreadsheet has %d GB unpacked, and at most %d are taken. Save it as CSV and bring that in.", unpacked>>30, MaxUnpacked>>30)
	}
	book, err := openXLSX(fmt.Sprintf("/proc/self/fd/%d", f.Fd())) // it may have no name
	if err != nil {
		return err
	}
	t.closers = append(t.closers, func() { _ = book.Close() })
	return t.sheets(XLSX, book.GetSheetList(), o, func(name string) (func() ([]string, error), error) {
		rows, err := book.Rows(name)
		if err != nil {
			return nil, damaged(XLSX)
		}
		t.closers = append(t.closers, func() { _ = rows.Close() })
		return func() ([]string, error) {
			if !rows.Next() {
				if rows.Error() != nil {
					return nil, damaged(XLSX)
				}
				return nil, nil
			}
			cells, err := rows.Columns()
			if err != nil {
				return nil, damaged(XLSX)
			}
			if cells == nil {
				cells = []string{}
			}
			return cells, nil
		}, nil
	})
}

// openXLSX unpacks large parts into temporary files, so that memory stays flat.
func openXLSX(name string) (book *excelize.File, err error) {
	defer func() {
		if fault := recover(); fault != nil {
			err = damaged(XLSX)
		}
	}()
	book, err = excelize.OpenFile(name, excelize.Options{UnzipSizeLimit: MaxUnpacked, UnzipXMLSizeLimit: 8 << 20})
	switch {
	case err == nil:
		return book, nil
	case strings.Contains(err.Error(), "size") && strings.Contains(err.Error(), "limit"):
		return nil, wrong("The spreadsheet has more than %d GB unpacked. Save it as CSV and bring that in.", MaxUnpacked>>30)
	}
	return nil, damaged(XLSX)
}

// sheets chooses a sheet and returns its rows; those that are empty before the
// first with something in it are left out.
func (t *Table) sheets(k Kind, names []string, o Options, open func(name string) (func() ([]string, error), error)) error {
	t.Sheets = names
	for _, name := range names {
		if o.Sheet != "" && o.Sheet != name {
			continue
		}
		next, err := open(name)
		if err != nil {
			return err
		}
		first, err := firstRow(next)
		if err != nil {
			return err
		}
		if first == nil {
			continue
		}
		t.Sheet = name
		t.rows(k, func() ([]string, error) {
			if row := first; row != nil {
				first = nil
				return row, nil
			}
			return next()
		})
		return nil
	}
	if o.Sheet != "" {
		return wrong("There is nothing on a sheet %q. The file has: %s.", o.Sheet, strings.Join(names, ", "))
	}
	return wrong("The spreadsheet is empty. Choose a file with one address a row.")
}

func firstRow(next func() ([]string, error)) ([]string, error) {
	for {
		row, err := next()
		if err != nil || row == nil || strings.Join(row, "") != "" {
			return row, err
		}
	}
}

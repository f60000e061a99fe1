package format

import "strings"

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

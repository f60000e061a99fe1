package address

import "strings"

// Several returns the addresses of a cell that holds more than one, as they are written
// there; nil for a cell with one or none. What stands between them may be a semicolon, a
// comma, a slash, a bar, a line end or a space; each may have a name before it.
func Several(cell string) []string {
	if strings.Count(cell, "@") < 2 {
		return nil
	}
	for _, between := range []string{";\n\r|", ";\n\r|,/", ";\n\r|,/ \t"} {
		parts := strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(between, r) })
		if found := whole(parts); len(found) > 1 {
			return found
		}
	}
	return nil
}

// whole returns the parts that are addresses, if those with an @ in them all are.
func whole(parts []string) (found []string) {
	for _, p := range parts {
		p = strings.TrimSpace(p)
		if !strings.Contains(p, "@") {
			continue
		}
		if _, err := Parse(p); err != nil {
			return nil
		}
		found = append(found, p)
	}
	return found
}

// Nth returns the text of a cell's address numbered n from 0: of a cell with one, all of
// it; "" where there are fewer.
func Nth(cell string, n int) string {
	several := Several(cell)
	switch {
	case several == nil && n == 0:
		return cell
	case n < len(several):
		return several[n]
	}
	return ""
}

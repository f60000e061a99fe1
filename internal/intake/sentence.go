package intake

import (
	"fmt"
	"strings"

	"varnet/core/sheet"
	"varnet/internal/format"
	"varnet/internal/store"
)

// Sentence says what was recognised.
func (r *Reading) Sentence() string {
	between := map[string]string{",": "commas", ";": "semicolons", "\t": "tabs", "|": "vertical bars", " ": "spaces"}[r.Dialect.Delimiter]
	if between == "" {
		between = "“" + r.Dialect.Delimiter + "”"
	}
	s := r.Kind.Title()
	switch {
	case r.Kind != format.Text && len(r.Sheets) > 1:
		s += fmt.Sprintf(", sheet “%s” of %d, with %d columns", r.Sheet, len(r.Sheets), len(r.Columns))
	case r.Kind != format.Text:
		s += fmt.Sprintf(" with %d columns", len(r.Columns))
	case r.Dialect.Delimiter == "":
		s = "One address per line"
	default:
		s = fmt.Sprintf("%d columns separated by %s", len(r.Columns), between)
	}
	if r.Dialect.Encoding != sheet.UTF8 {
		s += ", in the encoding " + r.Dialect.Encoding
	}
	if r.Packed != "" {
		s += " (" + r.Packed + ")"
	}
	if r.Dialect.Header {
		s += ", the first line names them"
	}
	if r.AddressColumn < 0 {
		return s + ". No column was recognised as holding addresses: choose it."
	}
	s += fmt.Sprintf(". The addresses are in column %d, “%s”.", r.AddressColumn+1, r.Columns[r.AddressColumn])
	for _, c := range r.AlsoAddresses {
		s += fmt.Sprintf(" Column %d, “%s”, holds addresses too.", c+1, r.Columns[c])
	}
	return s
}

// Problem says why a row is not a plain address of its own.
func Problem(t *store.Trouble) string {
	switch {
	case t.Address == nil:
		return "The address cell is empty."
	case t.First != nil:
		return fmt.Sprintf("Repeats the address of line %d.", *t.First)
	case t.Problem != nil:
		return t.Problem.Reason
	}
	return "Cleaned up: " + strings.Join(t.Mended, ", ") + "."
}

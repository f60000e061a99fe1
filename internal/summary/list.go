package summary

import (
	"fmt"

	"varnet/core/say"
	"varnet/internal/store"
)

// List says what was read of a list.
func List(l store.List) string {
	s := fmt.Sprintf("%s with %s.", say.Rows(l.Rows), say.Plural(l.Addresses, "different address", "different addresses"))
	var rest []string
	add := func(n int64, one, many string) {
		if n > 0 {
			rest = append(rest, say.Plural(n, one, many))
		}
	}
	add(l.Duplicates, "row repeats an earlier address", "rows repeat an earlier address")
	add(l.Blank, "has no address", "have no address")
	add(l.Malformed, "has a text that is not an address", "have a text that is not an address")
	if len(rest) > 0 {
		s += " " + say.And(rest...) + "."
	}
	if l.Erased > 0 {
		s += fmt.Sprintf(" %s blank because %s asked for the address to be erased.", say.Plural(l.Erased, "row is", "rows are"), map[bool]string{true: "its person", false: "their persons"}[l.Erased == 1])
	}
	if l.EarlierID != nil && l.Added+l.Changed > 0 {
		s += fmt.Sprintf(" The newer file added %s and changed %s.", say.Rows(l.Added), say.Rows(l.Changed))
	}
	if l.Mended > 0 {
		s += fmt.Sprintf(" %s cleaned up (spaces, brackets, mailto:). Your file is unchanged.", say.Plural(l.Mended, "address was", "addresses were"))
	}
	return s
}

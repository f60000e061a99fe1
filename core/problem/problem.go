// Package problem says which field of what somebody has set is wrong, and why.
package problem

import "fmt"

// Field is a field that cannot stay as it is.
type Field struct {
	Name string // as the API calls it
	Why  string // with the remedy, and without a full stop, since sentences are made with it
}

func (f *Field) Error() string { return f.Name + ": " + f.Why }

// In returns a *Field.
func In(name, why string, args ...any) error {
	return &Field{name, fmt.Sprintf(why, args...)}
}

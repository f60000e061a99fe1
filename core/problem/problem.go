// Package problem says what of something that somebody has set cannot be.
package problem

import "fmt"

// Field is a field that cannot be as it is.
type Field struct {
	Name string // as the API calls it
	Why  string // with the remedy, and without a full stop: it also ends sentences
}

func (f *Field) Error() string { return f.Name + ": " + f.Why }

// In returns a *Field.
func In(name, why string, args ...any) error {
	return &Field{name, fmt.Sprintf(why, args...)}
}

// Package connecttest holds what tests of places do with them.
package connecttest

import (
	"testing"

	"varnet/internal/connect"
)

// Items returns orders for contacts as Now finds them, each with a value to get.
func Items(t testing.TB, p connect.Taker, o connect.Order, value string, keys ...string) []connect.Item {
	t.Helper()
	out := make([]connect.Item, len(keys))
	for i, k := range keys {
		out[i] = connect.Item{Key: k, Value: value}
	}
	now, err := p.Now(t.Context(), o, out)
	if err != nil {
		t.Fatal(err)
	}
	for i := range out {
		out[i].Addresses, out[i].Version = now[i].Addresses, now[i].Version
	}
	return out
}

// Write returns what a place says of each of some contacts; an error for all of them ends the test.
func Write(t testing.TB, p connect.Taker, o connect.Order, given []connect.Item) []error {
	t.Helper()
	errs, err := p.Write(t.Context(), o, given)
	if err != nil {
		t.Fatal(err)
	}
	return errs
}

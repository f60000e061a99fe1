// Package storetest opens stores for tests.
package storetest

import (
	"testing"

	"varnet/internal/store"
	"varnet/internal/testkit"
)

// Open returns a store on a database of the test's own, which has the schema of this release.
func Open(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), testkit.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

// Package kinds is the registry of the kinds of places that connections lead to.
package kinds

import (
	"slices"

	"varnet/internal/connect"
	"varnet/internal/connect/book"
	"varnet/internal/connect/database"
	"varnet/internal/connect/directory"
	"varnet/internal/connect/files"
	"varnet/internal/connect/mailman"
	"varnet/internal/connect/recipe"
)

// All returns the kinds, in the order in which people are shown them.
func All() []connect.Kind {
	return []connect.Kind{recipe.Kind, directory.Kind, book.Kind, mailman.Kind, database.Kind, files.Kind}
}

// Of returns the kind of a code; ok is false for one there is not.
func Of(code string) (k connect.Kind, ok bool) {
	all := All()
	i := slices.IndexFunc(all, func(k connect.Kind) bool { return k.Code == code })
	if i < 0 {
		return k, false
	}
	return all[i], true
}

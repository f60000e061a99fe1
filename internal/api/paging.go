package api

import (
	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/contract"
)

// Cursor is where a page begins.
type Cursor struct {
	Cursor string `query:"cursor" maxLength:"1000" doc:"The cursor that the page before gave as next; none begins at the beginning."`
}

// Limit is how many things a page has.
type Limit struct {
	Limit int `query:"limit" minimum:"1" maximum:"500" default:"100" doc:"How many at most."`
}

// place reads into a variable where the page begins; without a cursor it stays as it is.
func (c Cursor) place(into any) error {
	if contract.ReadCursor(c.Cursor, into) != nil {
		return huma.Error422UnprocessableEntity("This cursor does not come from a page of this operation. Start without one.",
			&huma.ErrorDetail{Location: "query.cursor", Message: "this is not a cursor of this operation", Value: c.Cursor})
	}
	return nil
}

type pageOutput[T any] struct{ Body contract.Page[T] }

// pageOf returns a page of at most limit things; place returns where the page after its last
// one begins.
func pageOf[T any](items []T, limit int, place func(last T) any) *pageOutput[T] {
	p := &pageOutput[T]{contract.Page[T]{Items: items}}
	if p.Body.Items == nil {
		p.Body.Items = []T{}
	}
	if n := len(items); n > 0 && n >= limit {
		p.Body.Next = contract.CursorOf(place(items[n-1]))
	}
	return p
}

// whole returns everything as one page.
func whole[T any](items []T) *pageOutput[T] { return pageOf(items, len(items)+1, nil) }

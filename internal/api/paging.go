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
	Limit int `query:"limit" minimum:"1" maximum:"500" default:"100" doc:"How many at the most."`
}

// place reads the place of the cursor.
func (c Cursor) place(into any) error {
	if contract.ReadCursor(c.Cursor, into) != nil {
		return huma.Error422UnprocessableEntity("The cursor is none that a page of this operation gave as next. Begin without one.",
			&huma.ErrorDetail{Location: "query.cursor", Message: "this is no cursor of this operation", Value: c.Cursor})
	}
	return nil
}

type pageOutput[T any] struct{ Body contract.Page[T] }

// pageOf is a page of so many at most; place says where the page after it begins.
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

// whole is a page with everything there is.
func whole[T any](items []T) *pageOutput[T] { return pageOf(items, len(items)+1, nil) }

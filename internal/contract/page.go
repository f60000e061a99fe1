package contract

import (
	"encoding/base64"
	"encoding/json"
)

// Page is a part of a list of things.
type Page[T any] struct {
	Items []T    `json:"items" doc:"What is on the page."`
	Next  string `json:"next,omitempty" doc:"The cursor of the page after it; left out on the last."`
}

// PageQuery asks for a page: of at most Limit things, 1 to 500, after the page whose Next
// was Cursor. The zero value asks for the first page of the usual size.
type PageQuery struct {
	Limit  int    `query:"limit"`
	Cursor string `query:"cursor"`
}

// ListQuery asks for a page of lists.
type ListQuery struct {
	PageQuery
	Search   string `query:"search"`   // only lists with this text in their name
	Order    string `query:"order"`    // newest, name or largest
	Archived bool   `query:"archived"` // archived lists, instead of the others
}

// ShippedQuery asks for a page of a shipped catalogue.
type ShippedQuery struct {
	PageQuery
	Kind   string `query:"kind"`   // role, disposable and so on
	Search string `query:"search"` // only entries with this text in their name
}

// AuditQuery asks for a page of the audit trail.
type AuditQuery struct {
	PageQuery
	Person int64  `query:"person"` // only what this person did
	Action string `query:"action"` // only this operation
	From   string `query:"from"`   // only from this moment on (RFC 3339)
}

// CursorOf returns the cursor of the page that begins after a place. To callers it is
// opaque: what it holds may change with every release.
func CursorOf(place any) string {
	text, err := json.Marshal(place)
	if err != nil {
		panic(err) // places are numbers and names
	}
	return base64.RawURLEncoding.EncodeToString(text)
}

// ReadCursor reads the place of a cursor; "" is the beginning and leaves place as it is.
func ReadCursor(cursor string, place any) error {
	if cursor == "" {
		return nil
	}
	text, err := base64.RawURLEncoding.DecodeString(cursor)
	if err == nil {
		err = json.Unmarshal(text, place)
	}
	return err
}

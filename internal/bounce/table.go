package bounce

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"varnet/core/address"
	"varnet/core/say"
	"varnet/core/sheet"
	"varnet/internal/intake"
	"varnet/internal/store"
)

// Columns are the columns of a table of letters, from 0; below that: found by their names.
type Columns struct{ Address, Tag, Message int }

// names are those by which the columns are found.
var (
	tagNames     = []string{"tag", "verp", "return tag"}
	messageNames = []string{"message-id", "message_id", "messageid", "message id"}
)

func columnOf(r *intake.Reading, given int, names []string) int {
	if given >= 0 || !r.Dialect.Header {
		return given
	}
	return slices.IndexFunc(r.Columns, func(c string) bool { return slices.Contains(names, strings.ToLower(strings.TrimSpace(c))) })
}

// mostLetters is how many letters a table may have.
const mostLetters = 5_000_000

// LettersIn reads to whom a mailing went out of a table: an address a row, with the tag of
// its return address and its Message-ID where the table has them. Rows without an address
// are left out.
func LettersIn(r *intake.Reading, of Columns, g address.Grammar) (letters []store.Mailed, err error) {
	at := of.Address
	if at < 0 {
		at = r.AddressColumn
	}
	if at < 0 || at >= len(r.Columns) {
		return nil, &sheet.Error{Line: 1, Problem: "no column holds addresses; say which one does"}
	}
	tag, message := columnOf(r, of.Tag, tagNames), columnOf(r, of.Message, messageNames)
	header := r.Dialect.Header
	records := sheet.NewReader(r.Rest, r.Dialect)
	for {
		rec, err := records.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if rec.Blank() {
			continue
		}
		if header {
			header = false
			continue
		}
		cells := r.Dialect.Kept().Cells(rec.Raw)
		a, err := g.Parse(cell(cells, at))
		if err != nil {
			continue
		}
		if len(letters) == mostLetters {
			return nil, fmt.Errorf("a mailing may have %s letters; send the table in parts", say.Number(mostLetters))
		}
		letters = append(letters, store.Mailed{Mailbox: a.Mailbox(), Canonical: a.Canonical(), Domain: a.Domain, Tag: optional(cell(cells, tag)), MessageID: optional(strings.Trim(cell(cells, message), "<>"))})
	}
	if len(letters) == 0 {
		return nil, &sheet.Error{Line: 1, Problem: "the table holds no address"}
	}
	return letters, nil
}

func cell(cells []string, i int) string {
	if i < 0 || i >= len(cells) {
		return ""
	}
	return strings.TrimSpace(cells[i])
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

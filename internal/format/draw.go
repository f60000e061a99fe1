package format

import (
	"bufio"
	"errors"
	"io"
	"regexp"
	"strings"

	"varnet/core/address"
	"varnet/core/sheet"
)

// addressLike finds what may be an address in running text.
var addressLike = regexp.MustCompile(`[\p{L}\p{N}.!#$%&'*+/=?^_{|}~\x60-]+@[\p{L}\p{N}.-]+[\p{L}\p{N}]`)

// Prose tells running text with addresses in it from a table: no column of it
// holds them, or, without a header, one holds fewer than half of them.
func Prose(head []byte, g sheet.Guessed) bool {
	switch {
	case g.AddressColumn < 0:
		return addressLike.Match(head)
	case g.Dialect.Header:
		return false
	}
	inColumn, all := 0, 0
	for _, row := range g.Rows {
		all += len(addressLike.FindAllString(strings.Join(row, "\n"), -1))
		if g.AddressColumn < len(row) && tidy(row[g.AddressColumn]) {
			inColumn++
		}
	}
	return inColumn*2 < all
}

// tidy tells a cell that holds one address, at most with a name, from a piece
// of prose.
func tidy(cell string) bool {
	cell = strings.Trim(strings.TrimSpace(cell), "\"'<>,;")
	found := addressLike.FindString(cell)
	return found != "" && (cell == found || strings.HasSuffix(cell, "<"+found) || strings.EqualFold(cell, "mailto:"+found))
}

// Draw makes a table of a running text: its addresses, one a row, with the line
// they stand in.
func (t *Table) Draw(lines *bufio.Reader) {
	pending := [][]string{{"e-mail", "text"}}
	t.rows(Free, func() ([]string, error) {
		for len(pending) == 0 {
			text, err := line(lines)
			if errors.Is(err, io.EOF) {
				return nil, nil
			}
			if err != nil {
				return nil, err
			}
			text = strings.ToValidUTF8(text, "\ufffd")
			for _, found := range addressLike.FindAllString(text, -1) {
				if _, err := address.Parse(found); err == nil {
					pending = append(pending, []string{found, strings.TrimSpace(text)})
				}
			}
		}
		next := pending[0]
		pending = pending[1:]
		return next, nil
	})
}

package format

import (
	"bufio"
	"errors"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"

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

// beside is how much of a line is kept on each side of an address, in bytes: a line may hold
// thousands of them.
const beside = 160

// around is what stands around a part of a line, in a memory of its own.
func around(line string, from, to int) string {
	begin, end := max(0, from-beside), min(len(line), to+beside)
	for begin > 0 && !utf8.RuneStart(line[begin]) {
		begin--
	}
	for end < len(line) && !utf8.RuneStart(line[end]) {
		end++
	}
	text := strings.TrimSpace(line[begin:end])
	if begin > 0 {
		text = "… " + text
	}
	if end < len(line) {
		text += " …"
	}
	return strings.Clone(text)
}

func valid(text string) bool {
	_, err := address.Parse(text)
	return err == nil
}

// Draw makes a table of a running text: its addresses, one a row, with what stands
// around them in their line.
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
			for _, at := range addressLike.FindAllStringIndex(text, -1) {
				if found := text[at[0]:at[1]]; valid(found) {
					pending = append(pending, []string{strings.Clone(found), around(text, at[0], at[1])})
				}
			}
		}
		next := pending[0]
		pending = pending[1:]
		return next, nil
	})
}

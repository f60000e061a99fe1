// Package erase takes addresses out of texts and rows, because the person whom one belongs to
// asked for it. It finds an address however it is written there (in another case, in angle
// brackets, among other words) and leaves every other byte as it is.
package erase

import (
	"bytes"
	"slices"
	"strings"
	"unicode/utf8"

	"varnet/core/address"
	"varnet/core/sheet"
)

// Placeholder stands in a text where an address stood.
const Placeholder = "(erased)"

// Eraser finds addresses that are to be gone.
type Eraser struct {
	// Gone reports whether an address is to be gone, by its identity.
	Gone func(identity string) bool
	// Same returns what the operator of a domain leaves out when it finds a mailbox, so that
	// all spellings of a mailbox have one identity; nil: nothing.
	Same    func(domain string) address.Sameness
	Grammar address.Grammar
	// Domains are how the domain of the address is written, in lower case, where it is one that is
	// known: rows without it are passed over. None: every row is read.
	Domains []string
}

// Identity is what an address is told apart by; "" for a text that is not an address.
func (e Eraser) Identity(text string) string {
	a, err := e.Grammar.Parse(text)
	if err != nil {
		return ""
	}
	if e.Same == nil {
		return a.Canonical()
	}
	return a.Identity(e.Same(a.Domain))
}

// Is reports whether a text is, as a whole, an address that is to be gone.
func (e Eraser) Is(text string) bool {
	id := e.Identity(text)
	return id != "" && e.Gone(id)
}

// Text returns a text without the addresses that are to be gone, and whether one was in it.
func (e Eraser) Text(text string) (out string, erased bool) {
	var b strings.Builder
	rest := 0 // from where on it is not yet in b
	for at := 0; at < len(text); at++ {
		if text[at] != '@' {
			continue
		}
		end := at + 1 + domainLength(text[at+1:])
		for _, from := range begins(text[rest:at]) {
			if end > at+1 && e.Is(text[rest+from:end]) {
				b.WriteString(text[rest:rest+from] + Placeholder)
				rest, at, erased = end, end-1, true
				break
			}
		}
	}
	if !erased {
		return text, false
	}
	return b.String() + text[rest:], true
}

// domainLength is how much of a text can be the domain of an address.
func domainLength(text string) int {
	if strings.HasPrefix(text, "[") {
		return strings.IndexByte(text, ']') + 1
	}
	n := len(text)
	for i, r := range text {
		if r < utf8.RuneSelf && !letterDigit(byte(r)) && r != '-' && r != '.' {
			n = i
			break
		}
	}
	return len(strings.TrimRight(text[:n], ".-"))
}

// begins are the places of a text at which a local part that ends with it may begin, the
// longest first: what people and programs write before an address, such as a quote or the
// name of a field, may be a part of one as well (RFC 5322 section 3.2.3).
func begins(text string) (at []int) {
	if strings.HasSuffix(text, `"`) {
		if open := strings.LastIndexByte(text[:len(text)-1], '"'); open >= 0 {
			return []int{open}
		}
	}
	from := len(text)
	for from > 0 && localByte(text[from-1]) {
		from--
	}
	lead := true // so far nothing but punctuation
	for i := from; i < len(text); i++ {
		if i == from || lead || strings.IndexByte("!#$%&'*/=?^`{|}~", text[i-1]) >= 0 {
			at = append(at, i)
		}
		lead = lead && !letterDigit(text[i]) && text[i] < utf8.RuneSelf
	}
	return at
}

func letterDigit(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

func localByte(c byte) bool {
	return letterDigit(c) || c >= utf8.RuneSelf || strings.IndexByte("!#$%&'*+-/=?^_`{|}~.", c) >= 0
}

// Row returns a record without the addresses that are to be gone: the whole row is blank where
// a cell of the address columns is one of them (then whole is true), otherwise the other cells
// have Placeholder where one stood. What has none comes back as it is. In a row that becomes
// blank those address cells stay that kept returns a text for, with that text; nil keeps none.
func (e Eraser) Row(d sheet.Dialect, raw []byte, columns []int, kept func(column int) string) (out []byte, whole bool) {
	if !e.mayHold(raw) {
		return raw, false
	}
	cells := d.Cells(raw)
	for _, c := range columns {
		if c < len(cells) && e.in(cells[c]) {
			return d.Replace(raw, func(n int) (string, bool) {
				if kept != nil && slices.Contains(columns, n) {
					return kept(n), true
				}
				return "", true
			}), true
		}
	}
	changed := map[int]string{}
	for i, cell := range cells {
		if text, erased := e.Text(cell); erased {
			changed[i] = text
		}
	}
	if len(changed) == 0 {
		return raw, false
	}
	return d.Replace(raw, func(n int) (text string, other bool) { text, other = changed[n]; return text, other }), false
}

// in reports whether a cell of an address column holds an address that is to be gone.
func (e Eraser) in(cell string) bool {
	if e.Is(cell) {
		return true
	}
	for _, one := range address.Several(cell) {
		if e.Is(one) {
			return true
		}
	}
	_, erased := e.Text(cell)
	return erased
}

// mayHold reports whether a record may hold the address: it has an at sign, and one of the domains. Of
// letters beyond ASCII it is not told here: they may stand for others.
func (e Eraser) mayHold(raw []byte) bool {
	if bytes.IndexFunc(raw, func(r rune) bool { return r >= utf8.RuneSelf }) >= 0 {
		return true
	}
	if bytes.IndexByte(raw, '@') < 0 {
		return false
	}
	lower := bytes.ToLower(raw)
	return len(e.Domains) == 0 || slices.ContainsFunc(e.Domains, func(d string) bool { return bytes.Contains(lower, []byte(d)) })
}

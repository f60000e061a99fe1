// Package address reads what people type where an e-mail address belongs.
//
// Parse takes the text of a cell, mends what is plainly wrapping (a display
// name in front, angle brackets, "mailto:", stray spaces) and says what it
// mended; what is left is held against the grammar of a mailbox as it may
// stand in RCPT TO (RFC 5321 section 4.1.2, RFC 6531 section 3.3).
//
//	a, err := address.Parse(" Ada Moss <Ada.Moss@Fernhollow.EXAMPLE>;")
//	a.Mailbox()   // Ada.Moss@fernhollow.example: what a host is asked about
//	a.Canonical() // ada.moss@fernhollow.example: what tells duplicates
package address

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"varnet/core/finding"
)

// Limits of RFC 5321 section 4.5.3.1, in octets.
const (
	maxLocal   = 64
	maxMailbox = 254 // the path of 256 less its angle brackets
)

// Address is one e-mail address that may be asked about.
type Address struct {
	// Local is the part before the @, its case kept, for asking. It is in
	// quoted form only where it must be.
	Local string
	// Domain is the part after the @ in lower case, as A-labels (RFC 5890).
	Domain string
	// Mended says in words what was changed of what was typed.
	Mended []string
}

// Mailbox is the address as a mail host is asked about it.
func (a Address) Mailbox() string { return a.Local + "@" + a.Domain }

// Canonical is the form that decides identity: two cells with the same
// canonical form hold the same address. Mail hosts that tell upper from lower
// case in the local part are as good as extinct, so case is left out.
func (a Address) Canonical() string { return a.Identity(Sameness{}) }

// CanonicalOf is the canonical form of an address of which the local part and the domain are known.
func CanonicalOf(local, domain string) string {
	return Address{Local: local, Domain: domain}.Canonical()
}

// Sameness tells what an operator leaves out when it finds the mailbox.
type Sameness struct {
	Dots bool // dots in the local part make no difference
	Tags bool // what stands after a plus sign makes none
}

// Identity is the canonical form less what the operator leaves out. It is for
// telling duplicates alone; a host is always asked about Mailbox.
func (a Address) Identity(s Sameness) string {
	local := strings.ToLower(norm.NFC.String(a.Local))
	if i := strings.IndexByte(local, '+'); s.Tags && i > 0 {
		local = local[:i]
	}
	if s.Dots && local[0] != '"' {
		local = strings.ReplaceAll(local, ".", "")
	}
	return local + "@" + a.Domain
}

// International reports whether the local part needs SMTPUTF8 (RFC 6531).
func (a Address) International() bool { return !ascii(a.Local) }

// Tag is the sub-address after a plus sign (RFC 5233), "" where there is none.
func (a Address) Tag() string {
	if i := strings.IndexByte(a.Local, '+'); i > 0 {
		return a.Local[i+1:]
	}
	return ""
}

// Base is the local part without its tag, in lower case.
func (a Address) Base() string {
	l := strings.ToLower(a.Local)
	if i := strings.IndexByte(l, '+'); i > 0 {
		return l[:i]
	}
	return l
}

// Error says why a text is not an address.
type Error struct {
	Cause finding.Cause
	// Position is the character at fault in the text after mending, counted
	// from 1; 0 where the whole is at fault.
	Position int
	// Reason is a sentence.
	Reason string
}

func (e *Error) Error() string { return e.Reason }

func malformed(pos int, reason string) *Error {
	return &Error{Cause: finding.SyntaxMalformed, Position: pos, Reason: reason}
}

// Grammar is what is taken for an address. The zero value is the usual one.
type Grammar struct {
	// Literals takes addresses that name the host by its number in brackets
	// (RFC 5321 section 4.1.3), such as ada@[192.0.2.1].
	Literals bool
}

// Parse reads one address by the usual grammar.
func Parse(cell string) (Address, error) { return Grammar{}.Parse(cell) }

// Parse reads one address out of the text of a cell. The error is an *Error.
func (g Grammar) Parse(cell string) (Address, error) {
	if !utf8.ValidString(cell) {
		return Address{}, malformed(0, "The text is not valid UTF-8; was the file read in the right encoding?")
	}
	if first, ok := g.firstOfSeveral(cell); ok {
		return first, nil
	}
	text, mended := mend(cell)
	a, err := g.mailbox(text)
	if err != nil {
		return Address{}, err
	}
	a.Mended = mended
	return a, nil
}

// firstOfSeveral takes the first of several addresses in a cell.
func (g Grammar) firstOfSeveral(cell string) (first Address, ok bool) {
	if strings.Count(cell, "@") < 2 {
		return first, false
	}
	parts := strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(",;|/\n\t ", r) })
	others := map[string]bool{}
	for _, part := range parts {
		text, mended := mend(part)
		a, err := g.mailbox(text)
		if err != nil {
			if strings.Contains(part, "@") {
				return first, false // damage, and not a list
			}
			continue
		}
		if len(others) == 0 {
			first = a
			first.Mended = mended
		}
		others[a.Canonical()] = true
	}
	if len(others) < 2 {
		return first, false
	}
	first.Mended = append(first.Mended, fmt.Sprintf("the first of %d addresses in the cell taken", len(others)))
	return first, true
}

// Rebuild returns an address from the mailbox form that Parse made.
func Rebuild(mailbox string) Address {
	i := strings.LastIndexByte(mailbox, '@')
	return Address{Local: mailbox[:i], Domain: mailbox[i+1:]}
}

func (g Grammar) mailbox(text string) (Address, error) {
	if text == "" {
		return Address{}, malformed(0, "The cell holds no address.")
	}
	local, domain, err := split(text)
	if err != nil {
		return Address{}, err
	}
	if local, err = readLocal(local); err != nil {
		return Address{}, err
	}
	if len(local) > maxLocal {
		return Address{}, &Error{finding.SyntaxTooLong, 0, "The part before the @ is longer than 64 bytes."}
	}
	at := utf8.RuneCountInString(text[:len(text)-len(domain)])
	if domain, err = g.domain(domain, at); err != nil {
		return Address{}, err
	}
	if len(local)+1+len(domain) > maxMailbox {
		return Address{}, &Error{finding.SyntaxTooLong, 0, "The address is longer than 254 bytes."}
	}
	return Address{Local: local, Domain: domain}, nil
}

// split finds the @ between local part and domain; an @ within quotes is part
// of the local part.
func split(text string) (local, domain string, err error) {
	at := -1
	if text[0] == '"' {
		if end := closingQuote(text); end > 0 && end+1 < len(text) && text[end+1] == '@' {
			at = end + 1
		}
	}
	if at < 0 {
		at = strings.IndexByte(text, '@')
	}
	switch {
	case at < 0:
		return "", "", malformed(0, "There is no @ in it.")
	case at == 0:
		return "", "", malformed(1, "There is nothing before the @.")
	case at == len(text)-1:
		return "", "", malformed(utf8.RuneCountInString(text), "There is nothing after the @.")
	}
	local, domain = text[:at], text[at+1:]
	if i := strings.IndexByte(domain, '@'); i >= 0 {
		return "", "", malformed(utf8.RuneCountInString(text[:at+1+i])+1, "There is a second @ in it.")
	}
	return local, domain, nil
}

// closingQuote returns the index of the quote that ends the quoted string s
// begins with, or -1.
func closingQuote(s string) int {
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '"':
			return i
		}
	}
	return -1
}

func ascii(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

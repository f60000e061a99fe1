package workshop

import (
	"fmt"
	"hash/maphash"
	"strings"
	"unicode"

	"varnet/core/address"
)

// By is by what two rows are the same.
type By string

// The ways.
const (
	ByAddress By = "address" // the canonical form of an address
	ByMailbox By = "mailbox" // what the operator takes for the same mailbox
	ByDomain  By = "domain"  // the domain of an address
	ByExact   By = "exact"   // the cell as it stands
	ByLoose   By = "loose"   // the cell without case and spaces
	ByDigits  By = "digits"  // its digits alone, as of telephones
)

// ofAddress reports whether it looks at addresses.
func (b By) ofAddress() bool { return b == ByAddress || b == ByMailbox || b == ByDomain }

// Match says by what the rows of a table are the same as others.
type Match struct {
	By By
	// Columns are those that are looked at, from 0.
	Columns []int
	// Together: all columns make one key, as those of a household do. Else each cell makes one
	// of its own, as several columns with addresses do.
	Together bool
	// Grammar reads addresses, Same is what their operators take for the same mailbox.
	Grammar address.Grammar
	Same    func(domain string) address.Sameness
}

func (m Match) check(t Table) error {
	switch m.By {
	case ByAddress, ByMailbox, ByDomain, ByExact, ByLoose, ByDigits:
	default:
		return fmt.Errorf("rows are the same by address, mailbox, domain, exact, loose or digits, not by %q", m.By)
	}
	if len(m.Columns) == 0 {
		return fmt.Errorf("the list %s has no column to compare by; name one of %s", t.Name, quotedNames(t.Columns))
	}
	for _, c := range m.Columns {
		if c < 0 || c >= len(t.Columns) {
			return fmt.Errorf("the list %s has %d columns, and no column %d", t.Name, len(t.Columns), c+1)
		}
	}
	return nil
}

// key stands for what rows are compared by: 128 bits of two keyed hashes, since keys of millions
// of rows are held. That two different ones of 10 million agree has odds of 1 to 10^24.
type key [2]uint64

var seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

func hashed(text string) key {
	return key{maphash.String(seeds[0], text), maphash.String(seeds[1], text)}
}

// keys appends the keys of a row, without repetition; none where its cells hold nothing to
// compare by.
func (m Match) keys(row Row, to []key) []key {
	if m.Together {
		var parts []string
		filled := false
		for _, c := range m.Columns {
			text, ok := m.text(row.Cell(c))
			parts, filled = append(parts, text), filled || ok
		}
		if filled {
			to = append(to, hashed(strings.Join(parts, "\x00")))
		}
		return to
	}
	for _, c := range m.Columns {
		cell := row.Cell(c)
		if several := m.several(cell); several != nil {
			for _, one := range several {
				to = m.key(one, to)
			}
			continue
		}
		to = m.key(cell, to)
	}
	return to
}

// several are the addresses of a cell that holds more than one.
func (m Match) several(cell string) []string {
	if !m.By.ofAddress() {
		return nil
	}
	return address.Several(cell)
}

// key appends the key of a cell, unless it is there.
func (m Match) key(cell string, to []key) []key {
	text, ok := m.text(cell)
	if !ok {
		return to
	}
	k := hashed(text)
	for _, before := range to {
		if before == k {
			return to
		}
	}
	return append(to, k)
}

// text is what of a cell is compared; ok is false where there is nothing.
func (m Match) text(cell string) (text string, ok bool) {
	switch m.By {
	case ByAddress, ByMailbox, ByDomain:
		a, err := m.Grammar.Parse(cell)
		switch {
		case err != nil:
			return "", false
		case m.By == ByDomain:
			return a.Domain, true
		case m.By == ByMailbox && m.Same != nil:
			return a.Identity(m.Same(a.Domain)), true
		}
		return a.Canonical(), true
	case ByLoose:
		text = strings.Join(strings.Fields(strings.ToLower(cell)), "")
	case ByDigits:
		text = digits(cell)
	default:
		text = cell
	}
	return text, text != ""
}

func digits(cell string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		if unicode.IsDigit(r) { // of other scripts, by their value
			for zero := r; ; zero-- {
				if !unicode.IsDigit(zero-1) || r-zero >= 9 {
					return '0' + r - zero
				}
			}
		}
		return -1
	}, cell)
}

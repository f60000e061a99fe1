package workshop

import (
	"crypto/sha256"
	"fmt"
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
		return fmt.Errorf("the list %s has no column to compare by; say which one", t.Name)
	}
	for _, c := range m.Columns {
		if c < 0 || c >= len(t.Columns) {
			return fmt.Errorf("the list %s has %d columns, and no column %d", t.Name, len(t.Columns), c+1)
		}
	}
	return nil
}

// key stands for what rows are compared by: a hash, since keys of millions of rows are held.
type key [16]byte

func hashed(text string) (k key) {
	sum := sha256.Sum256([]byte(text))
	copy(k[:], sum[:])
	return k
}

// keys returns the keys of a row, without repetition; none where its cells hold nothing to
// compare by.
func (m Match) keys(row []string) (all []key) {
	if m.Together {
		var parts []string
		filled := false
		for _, c := range m.Columns {
			text, ok := m.text(Cell(row, c))
			parts, filled = append(parts, text), filled || ok
		}
		if filled {
			all = append(all, hashed(strings.Join(parts, "\x00")))
		}
		return all
	}
	for _, c := range m.Columns {
		text, ok := m.text(Cell(row, c))
		if !ok {
			continue
		}
		k := hashed(text)
		known := false
		for _, before := range all {
			known = known || before == k
		}
		if !known {
			all = append(all, k)
		}
	}
	return all
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

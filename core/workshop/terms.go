package workshop

import (
	"bytes"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// How is how a term must stand in a cell.
type How string

// The ways.
const (
	AsCell   How = "cell"   // the cell is the term
	AsWord   How = "word"   // the term stands in it as a word, or as several
	AsPart   How = "part"   // the term stands anywhere in it
	AsDomain How = "domain" // the cell is a domain, or an address at one, that is the term or under it
	AsNumber How = "number" // the digits of the cell are those of the term
)

// Terms finds in a cell whether one of many terms stands in it. Case does not count.
type Terms struct {
	how   How
	whole map[string]bool
	most  map[string]int // words of the longest term that begins with a word
	parts *automaton
	n     int
}

// NewTerms makes terms ready to be found. What is empty is left out; of domains a leading "@"
// or "*." too.
func NewTerms(how How, terms []string) (*Terms, error) {
	t := &Terms{how: how, whole: map[string]bool{}, most: map[string]int{}}
	switch how {
	case AsCell, AsWord, AsPart, AsDomain, AsNumber:
	default:
		return nil, fmt.Errorf("a term stands in a cell as cell, word, part, domain or number, not as %q", how)
	}
	for _, text := range terms {
		term := t.fold(text)
		if term == "" || t.whole[term] {
			continue
		}
		t.whole[term] = true
		t.n++
		first, _, _ := strings.Cut(term, " ")
		t.most[first] = max(t.most[first], strings.Count(term, " ")+1)
	}
	if how == AsPart {
		t.parts = newAutomaton(t.whole)
		t.whole = nil
	}
	return t, nil
}

// Len is how many terms there are, each counted once.
func (t *Terms) Len() int { return t.n }

func (t *Terms) fold(text string) string {
	switch t.how {
	case AsWord:
		return foldWords(text)
	case AsNumber:
		return digits(text)
	case AsDomain:
		text = strings.TrimPrefix(strings.TrimPrefix(strings.ToLower(strings.TrimSpace(text)), "@"), "*.")
		return strings.Trim(text, ".")
	}
	return strings.ToLower(strings.TrimSpace(text))
}

// foldWords are the words of a text, letters and digits, in lower case, with a space between.
func foldWords(text string) string { return string(appendWords(make([]byte, 0, len(text)), text)) }

// appendWords appends what foldWords returns.
func appendWords(out []byte, text string) []byte {
	begun, gap := len(out), false
	for _, r := range text {
		letter := folded(r)
		if letter == 0 {
			gap = len(out) > begun
			continue
		}
		if gap {
			out, gap = append(out, ' '), false
		}
		out = utf8.AppendRune(out, letter)
	}
	return out
}

// folded is a letter or digit in lower case; 0: it is not part of a word.
func folded(r rune) rune {
	switch {
	case r < utf8.RuneSelf: // most are, and a table is quicker than Unicode's
		return rune(foldedASCII[r])
	case unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.IsMark(r):
		return unicode.ToLower(r)
	}
	return 0
}

// foldedASCII is that of each character of ASCII.
var foldedASCII = func() (t [utf8.RuneSelf]byte) {
	for c := range byte(utf8.RuneSelf) {
		switch {
		case '0' <= c && c <= '9', 'a' <= c && c <= 'z':
			t[c] = c
		case 'A' <= c && c <= 'Z':
			t[c] = c + 'a' - 'A'
		}
	}
	return t
}()

// In reports whether one of the terms stands in a cell.
func (t *Terms) In(cell string) bool {
	if cell == "" || t.n == 0 {
		return false
	}
	switch t.how {
	case AsPart:
		return t.parts.in(strings.ToLower(cell))
	case AsWord:
		var room [128]byte
		return t.word(appendWords(room[:0], cell))
	case AsDomain:
		return t.domain(t.fold(cell[strings.LastIndexByte(cell, '@')+1:]))
	}
	return t.whole[t.fold(cell)]
}

// word looks for a term that begins at one of the words of a folded text.
func (t *Terms) word(text []byte) bool {
	for len(text) > 0 {
		first, rest, _ := bytes.Cut(text, []byte(" "))
		most := t.most[string(first)]
		for end, n := len(first), 1; n <= most; n++ {
			if t.whole[string(text[:end])] {
				return true
			}
			if end == len(text) {
				break
			}
			next := bytes.IndexByte(text[end+1:], ' ')
			if end++; next < 0 {
				end = len(text)
			} else {
				end += next
			}
		}
		text = rest
	}
	return false
}

// domain looks a domain up, and those that it is under.
func (t *Terms) domain(name string) bool {
	for name != "" {
		if t.whole[name] {
			return true
		}
		_, under, ok := strings.Cut(name, ".")
		if !ok {
			return false
		}
		name = under
	}
	return false
}

// Strike are the rows of a table in which no term stands, or (with keep) those in which one does.
// It looks in some columns, or (with none) in all.
func Strike(t Table, terms *Terms, columns []int, keep bool) Table {
	return t.chosen(func() (func(int64, Row) bool, error) {
		return func(_ int64, row Row) bool {
			found := false
			if len(columns) == 0 {
				for _, cell := range row.Cells() {
					found = found || terms.In(cell)
				}
			}
			for _, c := range columns {
				found = found || terms.In(row.Cell(c))
			}
			return found == keep
		}, nil
	})
}
